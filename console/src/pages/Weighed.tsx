import { useState } from "react";
import { originalAddress, weighingPageAddress, weighingShotAddress } from "../api/calls";
import { type Loading, type Report, type View, type WeighedPicture, type Weighing } from "../api/client";
import { imageAddress } from "../easel/declarations";
import { elementsOf } from "../frame/address";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { bytesText, pixelsText } from "../parts/figures";
import { Patient } from "../parts/Patient";
import { Window } from "../parts/Window";
import { Wide } from "../parts/Wide";

const saved = (p: WeighedPicture) => (p.after && !p.repeated && p.bytes > p.after.bytes ? p.bytes - p.after.bytes : 0);
const share = (before: number, after: number) => (before > 0 ? `${(100 * (1 - after / before)).toFixed(1)} %` : "–");
const short = (url: string) => decodeURIComponent((url.split("?")[0] ?? "").split("/").pop() || url).slice(0, 48);

// What a weigh-in came to: the screens in short, then every picture of one of them.
export function Weighed(props: { site: string; id: number; report: Report; after: Report | undefined; fixed: NonNullable<Weighing["fixed"]> | undefined; beside: Report | undefined }) {
  const { report, after, beside } = props;
  const [screen, setScreen] = useState(report.views[0]?.name ?? "");
  const [open, setOpen] = useState<WeighedPicture>();
  const [both, setBoth] = useState(false);
  const view = report.views.find((v) => v.name === screen) ?? report.views[0];
  const then = after?.views.find((v) => v.name === view?.name);
  if (!view) return null;
  const cell = "py-1 pr-4 text-right";
  return (
    <>
      {report.notes.map((n) => (
        <p key={n} className="text-soft">
          {n}
        </p>
      ))}
      <Wide label="Screens" className="shrink-0">
        <table className="figures text-sm" aria-label="In short">
          <thead className="text-soft">
            <tr>
              {["screen", "pictures", "now", "made to fit", ...(after ? ["rewritten"] : []), "saved", "jumps", ...(after ? ["rewritten"] : []), "largest paint", ...(after ? ["rewritten"] : []), ...(beside ? ["beside: pictures", "bytes", "jumps"] : [])].map((h, i) => (
                <th key={i} className={"py-1 pr-4 font-normal " + (i ? "text-right" : "text-left")}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {report.views.map((v, i) => {
              const a = after?.views[i];
              const b = beside?.views.find((o) => o.name === v.name);
              return (
                <tr key={v.name} className="border-t border-line">
                  <td className="py-1 pr-4">{v.name}</td>
                  <td className={cell}>{v.pictures.length}</td>
                  <td className={cell}>{bytesText(v.image_bytes)}</td>
                  <td className={cell}>{bytesText(v.after_bytes)}</td>
                  {after && <td className={cell + " text-accent"}>{a && bytesText(a.image_bytes)}</td>}
                  <td className={cell + " font-semibold text-accent"}>{share(v.image_bytes, a ? a.image_bytes : v.after_bytes)}</td>
                  <td className={cell}>{v.shift.toFixed(3)}</td>
                  {after && <td className={cell}>{a?.shift.toFixed(3)}</td>}
                  <td className={cell}>{Math.round(v.content_ms)} ms</td>
                  {after && <td className={cell}>{a && Math.round(a.content_ms)} ms</td>}
                  {beside && (
                    <>
                      <td className={cell}>{b?.pictures.length ?? "–"}</td>
                      <td className={cell}>{b ? bytesText(b.image_bytes) : "–"}</td>
                      <td className={cell}>{b ? b.shift.toFixed(3) : "–"}</td>
                    </>
                  )}
                </tr>
              );
            })}
          </tbody>
        </table>
      </Wide>
      {report.loads.length > 0 && <Loads site={props.site} id={props.id} views={report.views} before={report.loads} after={after?.loads} />}
      <div className="flex flex-wrap items-center gap-3">
        <Choice label="Screen" value={view.name} options={report.views.map((v) => ({ value: v.name, text: `${v.name} ${v.width} × ${v.height} at ${v.density}×` }))} onChange={setScreen} />
        <a className="text-accent underline" href={weighingPageAddress(props.site, props.id)}>
          the report as a page
        </a>
        {props.fixed && <Fixed fixed={props.fixed} />}
        {then && then.shot > 0 && view.shot > 0 && <Button onClick={() => setBoth(true)}>Now and rewritten</Button>}
      </div>
      <div className="flex shrink-0 items-start gap-4">
      <PageMap view={view} shot={view.shot > 0 ? weighingShotAddress(props.site, props.id, view.shot) : ""} />
      <Wide label="Pictures" className="flex-1">
        <table className="w-full text-left text-sm" aria-label="Pictures">
          <thead className="text-soft">
            <tr>
              {["", "picture", "has", "shown", "now", "made to fit", "saves", "what to do, by what it saves"].map((h, i) => (
                <th key={h} className={"py-1 pr-4 font-normal " + (i > 1 && i < 7 ? "text-right" : "")}>
                  {h || <span className="sr-only">what it looks like</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {view.pictures.map((p, i) => (
              <tr key={i} className="border-t border-line align-top">
                <td className="w-14 py-1.5 pr-2">{p.source && !p.failed && <Patient src={thumb(props.site, p)} alt="" width={48} loading="lazy" className="max-h-12 w-12 bg-panel object-contain" />}</td>
                <td className="py-1.5 pr-4 break-all">
                  {p.source && p.after ? (
                    <button className="text-left text-accent underline" onClick={() => setOpen(p)}>
                      {short(p.url)}
                    </button>
                  ) : (
                    short(p.url)
                  )}
                  <span className="block text-xs text-soft">
                    {[p.kind, p.above && "seen first", p.lazy && "lazy", p.repeated && "again", p.failed].filter(Boolean).join(", ")}
                  </span>
                </td>
                <td className="figures py-1.5 pr-4 text-right whitespace-nowrap">{pixelsText(p.natural_w, p.natural_h)}</td>
                <td className="figures py-1.5 pr-4 text-right whitespace-nowrap">{pixelsText(Math.round(p.w), Math.round(p.h))}</td>
                <td className="figures py-1.5 pr-4 text-right whitespace-nowrap">
                  {bytesText(p.bytes)}
                  {p.bytes > 0 && (
                    <span aria-hidden className="mt-1 ml-auto flex h-1.5 w-20 bg-accent">
                      <span className="h-full bg-trouble" style={{ width: `${100 * wasted(p)}%` }} />
                    </span>
                  )}
                </td>
                <td className="figures py-1.5 pr-4 text-right whitespace-nowrap">{p.after ? bytesText(p.after.bytes) : "–"}</td>
                <td className="figures py-1.5 pr-4 text-right whitespace-nowrap text-accent">{saved(p) ? bytesText(saved(p)) : ""}</td>
                <td className="py-1.5">
                  <ul>
                    {p.remedies.map((r, j) => (
                      <li key={j}>
                        {r.text} {r.saves > 0 && <span className="text-soft">({bytesText(r.saves)})</span>}
                      </li>
                    ))}
                  </ul>
                  {p.rule && <code className="figures text-xs break-all">{p.rule}</code>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      </div>
      <Window title={open ? short(open.url) : ""} open={open !== undefined} onClose={() => setOpen(undefined)}>
        {open && <BeforeAfter site={props.site} picture={open} />}
      </Window>
      <Window title={`The page on the ${view.name}, now and rewritten`} open={both} onClose={() => setBoth(false)}>
        {then && <WholePages before={view} after={then} address={(shot) => weighingShotAddress(props.site, props.id, shot)} />}
      </Window>
    </>
  );
}

// wasted is the share of a picture's bytes that it would do without, from 0 to 1.
const wasted = (p: WeighedPicture) => (p.after && p.bytes > 0 ? Math.max(0, 1 - p.after.bytes / p.bytes) : 0);

const thumb = (site: string, p: WeighedPicture) => {
  const [lane = "", ...path] = p.source.split("/");
  return imageAddress(site, lane, path.join("/"), { width: 96, more: {} });
};

// The page in small: where its pictures lie, each the redder the more bytes it wastes. In words it's the table beside.
function PageMap({ view, shot }: { view: View; shot: string }) {
  const height = Math.max(view.page_height, view.height);
  const scale = Math.min(176 / view.width, 900 / height);
  const worst = Math.max(1, ...view.pictures.map((p) => p.bytes * wasted(p)));
  return (
    <figure className="sticky top-0 shrink-0 max-lg:hidden">
      <div role="img" aria-label={`The page on the ${view.name}: ${view.pictures.length} pictures, ${bytesText(view.image_bytes - view.after_bytes)} of ${bytesText(view.image_bytes)} wasted`} className="relative border border-edge" style={{ width: view.width * scale, height: height * scale }}>
        {shot && <img src={shot} alt="" className="absolute inset-x-0 top-0 w-full" style={{ height: view.shot_height * scale }} />}
        <div className="absolute inset-x-0 border-b border-dashed border-edge" style={{ top: view.height * scale }} />
        {view.pictures.map((p, i) => (
          <div
            key={i}
            title={`${short(p.url)}: ${bytesText(p.bytes)}, ${Math.round(100 * wasted(p))} % wasted`}
            className={"absolute border border-ground " + (shot ? "opacity-70" : "")}
            style={{ left: p.x * scale, top: p.y * scale, width: Math.max(2, p.w * scale), height: Math.max(2, p.h * scale), background: `color-mix(in oklab, var(--trouble) ${Math.round(100 * Math.pow((p.bytes * wasted(p)) / worst, 0.4))}%, var(--line))` }}
          />
        ))}
      </div>
      <figcaption className="mt-1 w-0 min-w-full text-xs text-soft">red: bytes wasted; dashed: the first screen's end</figcaption>
    </figure>
  );
}

const seconds = (ms: number) => (ms / 1000).toFixed(1);
const timeText = (l: Loading, s: Loading["content"]) => (s.median >= l.cut_ms ? `over ${l.cut_ms / 1000} s` : `${seconds(s.median)} s` + (seconds(s.least) === seconds(s.most) ? "" : ` (${seconds(s.least)}–${seconds(s.most)})`));

// How the page loads over throttled lines: figures first, then what was seen at each of some times.
function Loads(props: { site: string; id: number; views: View[]; before: Loading[]; after: Loading[] | undefined }) {
  const rows = props.before.flatMap((l, i) => [
    { l, which: "now", first: true },
    ...(props.after?.[i] ? [{ l: props.after[i], which: "rewritten", first: false }] : []),
  ]);
  const shapeOf = (l: Loading) => {
    const v = props.views.find((o) => o.name === l.screen);
    return v ? `${v.width} / ${v.height}` : "9 / 19";
  };
  return (
    <section aria-label="How it loads" className="flex shrink-0 flex-col gap-3">
      <h3 className="font-semibold">How it loads</h3>
      <Wide label="Loads">
        <table className="figures text-sm whitespace-nowrap" aria-label="Loads over throttled lines">
          <thead className="text-soft">
            <tr>
              {["line", "screen", "page", "largest paint", "last picture", "jumps", "pictures", "loads"].map((h, i) => (
                <th key={h} className={"py-1 pr-4 font-normal " + (i > 2 ? "text-right" : "text-left")}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map(({ l, which, first }) => (
              <tr key={l.line + which} className={first ? "border-t border-line" : "text-accent"}>
                <td className="py-1 pr-4">{first && l.line}</td>
                <td className="py-1 pr-4">{first && l.screen}</td>
                <td className="py-1 pr-4">{which}</td>
                <td className="py-1 pr-4 text-right">{timeText(l, l.content)}</td>
                <td className="py-1 pr-4 text-right">{timeText(l, l.last_image)}</td>
                <td className="py-1 pr-4 text-right">{l.shift.median.toFixed(3)}</td>
                <td className="py-1 pr-4 text-right">{bytesText(l.image_bytes)}</td>
                <td className="py-1 pr-4 text-right">
                  {l.loads}
                  {l.unfinished > 0 && `, ${l.unfinished} cut off`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <div className="flex flex-wrap gap-x-10 gap-y-3">
        {rows.map(({ l, which }) => (
          <figure key={l.line + which} className="max-w-full">
            <figcaption className={"text-sm " + (which === "now" ? "" : "text-accent")}>
              {l.line}, {which}
            </figcaption>
            <ol className="mt-1 flex gap-2 overflow-x-auto" tabIndex={0} aria-label={`${l.line}, ${which}: the page as it loads`}>
              {l.frames.map((f) => (
                <li key={f.at_ms} className="shrink-0">
                  {f.shot > 0 ? (
                    <img src={weighingShotAddress(props.site, props.id, f.shot)} alt={`after ${f.at_ms / 1000} s`} className="h-40 border border-edge" />
                  ) : (
                    <div role="img" aria-label={`nothing after ${f.at_ms / 1000} s`} className="h-40 border border-dashed border-edge" style={{ aspectRatio: shapeOf(l) }} />
                  )}
                  <span aria-hidden className="figures text-xs text-soft">
                    {f.at_ms / 1000} s
                  </span>
                </li>
              ))}
            </ol>
          </figure>
        ))}
      </div>
    </section>
  );
}

// The whole page as it is and rewritten, one over the other: a slider moves the line between.
function WholePages(props: { before: View; after: View; address: (shot: number) => string }) {
  const [at, setAt] = useState(50);
  return (
    <div className="flex flex-col gap-2">
      <input type="range" min={0} max={100} value={at} aria-label="How much of the page as it is" onChange={(e) => setAt(Number(e.target.value))} className="w-full accent-(--color-accent)" />
      <p className="figures flex justify-between text-sm">
        <span>now {bytesText(props.before.image_bytes)}</span>
        <span>rewritten {bytesText(props.after.image_bytes)}</span>
      </p>
      <div className="relative max-h-[62vh] overflow-y-auto border border-edge" tabIndex={0} role="group" aria-label="Both pages">
        <div className="relative">
          <img src={props.address(props.after.shot)} alt="Rewritten" className="block w-full" />
          <img src={props.address(props.before.shot)} alt="As it is" style={{ clipPath: `inset(0 ${100 - at}% 0 0)` }} className="absolute inset-x-0 top-0 w-full" />
          <div aria-hidden className="absolute inset-y-0 w-0.5 bg-accent" style={{ left: `${at}%` }} />
        </div>
      </div>
    </div>
  );
}

// A picture as it is and made to fit, at the size that it is displayed at, one over the other: a slider moves the line between.
function BeforeAfter({ site, picture: p }: { site: string; picture: WeighedPicture }) {
  const [at, setAt] = useState(50);
  const [lane = "", ...path] = p.source.split("/");
  const fit = { objectFit: (p.fit === "cover" ? "cover" : "fill") as "cover" | "fill" };
  const address = "/" + [site, lane, ...elementsOf(path.join("/"))].map(encodeURIComponent).join("/") + "?" + p.after!.query;
  return (
    <div className="flex flex-col gap-2">
      <div className="relative max-w-full overflow-hidden bg-panel" style={{ width: p.w, aspectRatio: `${p.w} / ${p.h}` }}>
        <Patient src={address} alt="Made to fit" style={fit} className="absolute inset-0 size-full" />
        <img src={originalAddress(site, lane, path.join("/"), 0)} alt="As it is" style={{ ...fit, clipPath: `inset(0 ${100 - at}% 0 0)` }} className="absolute inset-0 size-full" />
        <div aria-hidden className="absolute inset-y-0 w-0.5 bg-accent" style={{ left: `${at}%` }} />
      </div>
      <input type="range" min={0} max={100} value={at} aria-label="How much of the picture as it is" onChange={(e) => setAt(Number(e.target.value))} className="w-full accent-(--color-accent)" style={{ maxWidth: p.w }} />
      <p className="figures flex justify-between text-sm" style={{ maxWidth: p.w }}>
        <span>now {bytesText(p.bytes)}</span>
        <span>
          made to fit {bytesText(p.after!.bytes)}, {pixelsText(p.after!.width, p.after!.height)}
        </span>
      </p>
    </div>
  );
}

function Fixed({ fixed }: { fixed: NonNullable<Weighing["fixed"]> }) {
  const [open, setOpen] = useState(false);
  const bytes = Uint8Array.from(atob(fixed.html), (c) => c.charCodeAt(0));
  const save = () => {
    const a = document.createElement("a");
    a.href = URL.createObjectURL(new Blob([bytes], { type: "text/html" }));
    a.download = "index.html";
    a.click();
    URL.revokeObjectURL(a.href);
  };
  return (
    <>
      <Button onClick={() => setOpen(true)}>The rewritten page</Button>
      <Window title="The rewritten page" open={open} onClose={() => setOpen(false)}>
        <p>
          {fixed.changed} images have new markup, {fixed.left.length} stay as they are.
        </p>
        <ul className="text-sm">
          {fixed.left.map((l, i) => (
            <li key={i} className="break-all">
              {l.src}: {l.why}
            </li>
          ))}
        </ul>
        <pre className="figures max-h-80 overflow-auto border border-line bg-panel p-2 text-xs break-all whitespace-pre-wrap">{new TextDecoder().decode(bytes)}</pre>
        <div className="flex justify-end">
          <Button kind="main" onClick={save}>
            Download
          </Button>
        </div>
      </Window>
    </>
  );
}
