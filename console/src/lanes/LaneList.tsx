import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { putSecret, removeSecret, testLane, upload, type Document, type Lane, type Site, type Step } from "../api/client";
import { addressOf, elementsOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Field, Labelled, ListField, NumberField } from "../parts/Field";
import { bytesText, pixelsText } from "../parts/figures";
import { Trouble } from "../parts/Trouble";
import { Destroy } from "../parts/Window";

const words = (...v: string[]) => v.map((w) => ({ value: w, text: w }));

function where(l: Lane): string {
  if (l.folder) return l.folder;
  if (l.kind === "web") return l.base || (l.allow ?? []).join(", ");
  return [l.endpoint?.replace(/\/$/, ""), l.bucket, l.prefix].filter(Boolean).join("/");
}

// The site's lanes; one of them opened at a time.
export function LaneList(props: { site: Site; document: Document; onChange: (part: Partial<Document>) => void }) {
  const { site, document: d } = props;
  const address = useAddress();
  const open = address.parts[1];
  const set = (name: string, part: Partial<Lane>) => props.onChange({ lanes: d.lanes.map((l) => (l.name === name ? { ...l, ...part } : l)) });
  const [name, setName] = useState("");
  const [kind, setKind] = useState("folder");
  return (
    <section aria-label="Lanes">
      <h2 className="mb-2 font-semibold">Lanes</h2>
      {d.lanes.length === 0 && <p className="text-soft">No lane yet. A lane is the way from the site to where its images lie.</p>}
      <ul className="max-w-5xl">
        {d.lanes.map((l) => (
          <li key={l.name} className="border-t border-line last:border-b">
            <button
              type="button"
              aria-expanded={l.name === open}
              onClick={() => go(addressOf("lanes", l.name === open ? [site.name] : [site.name, l.name]))}
              className="grid w-full grid-cols-[9rem_4.5rem_4.5rem_minmax(0,1fr)] gap-3 py-1.5 text-left hover:bg-panel max-sm:grid-cols-[minmax(0,1fr)_4.5rem]"
            >
              <span className="font-medium">
                {l.name === open ? "▾" : "▸"} {l.name}
              </span>
              <span>{l.kind}</span>
              <span className="max-sm:hidden">{l.visibility}</span>
              <span className="figures truncate text-sm text-soft max-sm:hidden">{where(l)}</span>
            </button>
            {l.name === open && (
              <OneLane
                site={site}
                lane={l}
                kept={site.document.lanes.some((k) => k.name === l.name)}
                onChange={(part) => set(l.name, part)}
                onRemove={() => (props.onChange({ lanes: d.lanes.filter((k) => k.name !== l.name) }), go(addressOf("lanes", [site.name])))}
              />
            )}
          </li>
        ))}
      </ul>
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (!name || d.lanes.some((l) => l.name === name)) return;
          props.onChange({ lanes: [...d.lanes, { name, kind, fresh_s: kind === "folder" || kind === "upload" ? 1 : 300, max_age_s: 3600, visibility: "public", original: "no", metadata: "strip", unshared: "forget", svg: "refuse" }] });
          go(addressOf("lanes", [site.name, name]));
          setName("");
        }}
      >
        <Field label="Another lane" value={name} onChange={setName} placeholder="photos" />
        <Labelled label="Kind">
          <Choice label="Kind of the lane" value={kind} options={words("folder", "web", "bucket", "upload")} onChange={setKind} />
        </Labelled>
        <Button type="submit">Draft it</Button>
      </form>
    </section>
  );
}

function OneLane(props: { site: Site; lane: Lane; kept: boolean; onChange: (part: Partial<Lane>) => void; onRemove: () => void }) {
  const { lane: l, onChange } = props;
  const stored = l.kind === "bucket" || (l.kind === "upload" && !l.folder);
  return (
    <div className="flex flex-col gap-4 pb-4 pl-4">
      <div className="grid gap-x-6 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">
        {(l.kind === "folder" || l.kind === "upload") && (
          <Field label="Folder" value={l.folder ?? ""} onChange={(folder) => onChange({ folder: folder || undefined })} hint="On every machine that the service runs on" />
        )}
        {l.kind === "web" && (
          <>
            <ListField label="Allow" value={l.allow ?? []} onChange={(allow) => onChange({ allow })} hint="URL patterns, such as https://photos.kestrel.test/*" />
            <ListField label="Deny" value={l.deny ?? []} onChange={(deny) => onChange({ deny })} hint="Wins over allow" />
            <Field label="Base" value={l.base ?? ""} onChange={(base) => onChange({ base: base || undefined })} hint="What paths are appended to; without one a path is a whole URL" />
          </>
        )}
        {stored && (
          <>
            <Field label="Bucket" value={l.bucket ?? ""} onChange={(bucket) => onChange({ bucket: bucket || undefined })} />
            <Field label="Endpoint" value={l.endpoint ?? ""} onChange={(endpoint) => onChange({ endpoint: endpoint || undefined })} />
            <Field label="Region" value={l.region ?? ""} onChange={(region) => onChange({ region: region || undefined })} />
            <Field label="Prefix" value={l.prefix ?? ""} onChange={(prefix) => onChange({ prefix: prefix || undefined })} />
          </>
        )}
        {(l.kind === "web" || stored) && <ListField label="Private addresses" value={l.private ?? []} onChange={(v) => onChange({ private: v })} hint="Reached though they aren't public" />}
        <NumberField label="Fresh, seconds" value={l.fresh_s ?? 0} onChange={(fresh_s) => onChange({ fresh_s })} hint="Where nothing else says so" />
        <NumberField label="Kept by browsers, seconds" value={l.max_age_s ?? 0} onChange={(max_age_s) => onChange({ max_age_s })} />
        <NumberField label="Largest source, bytes" value={l.source_bytes ?? 0} onChange={(v) => onChange({ source_bytes: v || undefined })} hint="0: as the site" />
        <Labelled label="Visibility">
          <Choice label="Visibility" value={l.visibility} options={words("public", "signed")} onChange={(visibility) => onChange({ visibility })} />
        </Labelled>
        <Labelled label="The source itself">
          <Choice label="Original" value={l.original} options={words("no", "download")} onChange={(original) => onChange({ original })} />
        </Labelled>
        <Labelled label="Drawings in SVG">
          <Choice label="SVG" value={l.svg} options={words("refuse", "untouched")} onChange={(svg) => onChange({ svg })} />
        </Labelled>
        {l.kind === "web" && (
          <Labelled label="Marked no-store or private">
            <Choice label="Unshared" value={l.unshared} options={words("forget", "keep")} onChange={(unshared) => onChange({ unshared })} />
          </Labelled>
        )}
        <Labelled label="Its metadata, when downloaded">
          <Choice label="Metadata" value={l.metadata} options={words("strip", "keep")} onChange={(metadata) => onChange({ metadata })} />
        </Labelled>
      </div>
      {props.kept ? (
        <>
          <TestBox site={props.site.name} lane={l} />
          {(l.kind === "web" || stored) && <Secrets site={props.site} lane={l} />}
          {l.kind === "upload" && <DropBox site={props.site.name} lane={l.name} />}
        </>
      ) : (
        <p className="text-soft">A draft: review and make the changes to bring it to life.</p>
      )}
      <div>
        <Destroy what="Remove lane" question={`Remove ${l.name} from the draft?`} detail="Its images stop being served once the changes are made. Sources stay where they are." onSure={() => Promise.resolve(props.onRemove())} />
      </div>
    </div>
  );
}

function TestBox({ site, lane }: { site: string; lane: Lane }) {
  const [source, setSource] = useState("");
  const [steps, setSteps] = useState<Step[]>();
  const [error, setError] = useState<Error>();
  return (
    <form
      aria-label="Test a source"
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        testLane(site, lane.name, source).then((t) => (setSteps(t.steps), setError(undefined)), setError);
      }}
    >
      <div className="flex items-end gap-2">
        <div className="max-w-xl flex-1">
          <Field label="Would this source be allowed?" value={source} onChange={setSource} placeholder={lane.kind === "web" && !lane.base ? "https://photos.kestrel.test/crowd.jpg" : "summer/delta-red.jpg"} />
        </div>
        <Button type="submit">Test</Button>
      </div>
      {steps && (
        <table aria-label="Steps" className="figures w-fit text-left text-sm">
          <tbody>
            {steps.map((s, i) => (
              <tr key={i} className={s.decided ? (s.verdict === "refused" || s.rule.startsWith("deny ") ? "text-trouble" : "text-accent") : "text-soft"}>
                <td className="pr-3">{s.decided ? "→" : ""}</td>
                <td className="pr-4">{s.rule}</td>
                <td className="pr-4">{s.verdict}</td>
                <td>{s.note}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {error && <Trouble error={error} />}
    </form>
  );
}

function Secrets({ site, lane }: { site: Site; lane: Lane }) {
  const queries = useQueryClient();
  const web = lane.kind === "web";
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [error, setError] = useState<Error>();
  const prefix = `lane/${lane.name}/`;
  const again = () => queries.invalidateQueries({ queryKey: ["sites"] });
  return (
    <form
      aria-label="Secrets"
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        putSecret(site.name, lane.name, web ? { header: name, value } : { access_key: name, secret_key: value }).then(() => (setName(""), setValue(""), setError(undefined), again()), setError);
      }}
    >
      <span className="text-soft">{web ? "Request headers, sent to this lane's origin alone" : "Credentials"}: kept encrypted, never shown again</span>
      <ul className="flex flex-col gap-1">
        {site.secrets
          .filter((s) => s.startsWith(prefix))
          .map((s) => (
            <li key={s} className="flex items-center gap-3">
              <span className="figures text-sm">{s.slice(prefix.length)}: kept</span>
              <Destroy what="Forget" question={`Forget ${s.slice(prefix.length)}?`} detail="Sources that need it can't be fetched any more." onSure={() => removeSecret(site.name, lane.name, s).then(again)} />
            </li>
          ))}
      </ul>
      <div className="flex flex-wrap items-end gap-2">
        <Field label={web ? "Header" : "Access key"} value={name} onChange={setName} placeholder={web ? "Authorization" : undefined} />
        <Field label={web ? "Value" : "Secret key"} type="password" autoComplete="new-password" value={value} onChange={setValue} />
        <Button type="submit">Keep</Button>
      </div>
      {error && <Trouble error={error} />}
    </form>
  );
}

interface Put {
  name: string;
  state: "waiting" | "done" | Error;
  words: string;
  url?: string;
}

// Files are dropped here, or picked, and go in one after another.
function DropBox({ site, lane }: { site: string; lane: string }) {
  const queries = useQueryClient();
  const [over, setOver] = useState(false);
  const [puts, setPuts] = useState<Put[]>([]);
  const take = async (files: File[]) => {
    setPuts((p) => [...files.map((f): Put => ({ name: f.name, state: "waiting", words: "waiting" })), ...p]);
    for (const f of files) {
      let next: Put;
      try {
        const u = await upload(site, lane, f.name, f);
        next = { name: f.name, state: "done", words: `version ${u.version}, ${pixelsText(u.width, u.height)}, ${bytesText(u.bytes)}`, url: addressOf("easel", [site, lane, ...elementsOf(u.path)]) };
      } catch (e) {
        next = { name: f.name, state: e as Error, words: (e as Error).message };
      }
      setPuts((p) => p.map((q) => (q.name === f.name && q.state === "waiting" ? next : q)));
    }
    await queries.invalidateQueries({ queryKey: ["sources", site, lane] });
  };
  return (
    <div className="flex flex-col gap-2">
      <label
        data-testid="drop"
        onDragOver={(e) => (e.preventDefault(), setOver(true))}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          void take([...e.dataTransfer.files]);
        }}
        className={"flex max-w-xl cursor-pointer flex-col items-center gap-1 border border-dashed p-4 focus-within:outline-2 " + (over ? "border-accent bg-panel" : "border-edge")}
      >
        Drop pictures here, or pick them
        <input type="file" multiple accept="image/*" onChange={(e) => void take([...(e.target.files ?? [])])} className="text-sm" />
      </label>
      <ul aria-label="Uploads" className="flex flex-col gap-1">
        {puts.map((p, i) => (
          <li key={i} className="flex gap-3">
            <span className="figures text-sm">{p.name}</span>
            <span className={p.state instanceof Error ? "text-trouble" : "text-soft"}>{p.words}</span>
            {p.url && (
              <a className="text-accent underline" href={p.url}>
                to the Easel
              </a>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}
