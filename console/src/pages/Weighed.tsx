import { useState } from "react";
import { originalAddress, weighingPageAddress } from "../api/calls";
import { type Report, type WeighedPicture, type Weighing } from "../api/client";
import { elementsOf } from "../frame/address";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { bytesText, pixelsText } from "../parts/figures";
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
  const view = report.views.find((v) => v.name === screen) ?? report.views[0];
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
      <div className="flex flex-wrap items-center gap-3">
        <Choice label="Screen" value={view.name} options={report.views.map((v) => ({ value: v.name, text: `${v.name} ${v.width} × ${v.height} at ${v.density}×` }))} onChange={setScreen} />
        <a className="text-accent underline" href={weighingPageAddress(props.site, props.id)}>
          the report as a page
        </a>
        {props.fixed && <Fixed fixed={props.fixed} />}
      </div>
      <Wide label="Pictures" className="shrink-0">
        <table className="w-full text-left text-sm" aria-label="Pictures">
          <thead className="text-soft">
            <tr>
              {["picture", "has", "shown", "now", "made to fit", "saves", "what to do, by what it saves"].map((h, i) => (
                <th key={h} className={"py-1 pr-4 font-normal " + (i > 0 && i < 6 ? "text-right" : "")}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {view.pictures.map((p, i) => (
              <tr key={i} className="border-t border-line align-top">
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
                <td className="figures py-1.5 pr-4 text-right whitespace-nowrap">{bytesText(p.bytes)}</td>
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
      <Window title={open ? short(open.url) : ""} open={open !== undefined} onClose={() => setOpen(undefined)}>
        {open && <BeforeAfter site={props.site} picture={open} />}
      </Window>
    </>
  );
}

// A picture as it is and made to fit, at the size that it is displayed at.
function BeforeAfter({ site, picture: p }: { site: string; picture: WeighedPicture }) {
  const [lane = "", ...path] = p.source.split("/");
  const box = { width: p.w, height: p.h, maxWidth: "100%", objectFit: (p.fit === "cover" ? "cover" : "fill") as "cover" | "fill" };
  const address = "/" + [site, lane, ...elementsOf(path.join("/"))].map(encodeURIComponent).join("/") + "?" + p.after!.query;
  return (
    <div className="flex flex-wrap gap-4">
      <figure>
        <img src={originalAddress(site, lane, path.join("/"), 0)} alt="As it is" style={box} />
        <figcaption className="figures text-sm">now {bytesText(p.bytes)}</figcaption>
      </figure>
      <figure>
        <img src={address} alt="Made to fit" style={box} />
        <figcaption className="figures text-sm">
          made to fit {bytesText(p.after!.bytes)}, {pixelsText(p.after!.width, p.after!.height)}
        </figcaption>
      </figure>
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
