import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { getTestLane, putSecret, removeSecret, upload } from "../api/calls";
import { type Document, type Lane, type Site, type Step } from "../api/client";
import { words } from "../api/words";
import { addressOf, elementsOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Choice, options } from "../parts/Choice";
import { Field, Labelled, ListField, NumberField } from "../parts/Field";
import { bytesText, pixelsText } from "../parts/figures";
import { Trouble } from "../parts/Trouble";
import { Destroy } from "../parts/Window";
import { kinds, type LaneField, type LaneKind } from "./kinds";

const kindOf = (l: Lane): LaneKind | undefined => kinds.find((k) => k.name === l.kind);

// textOf is a field's value in one line.
const textOf = (l: Lane, name: keyof Lane): string => [l[name] ?? ""].flat().join(", ");

// where says where a lane's sources are.
function where(l: Lane): string {
  const group = kindOf(l)?.where.find((names) => names.some((n) => textOf(l, n)));
  const parts = (group ?? []).map((n) => textOf(l, n)).filter(Boolean);
  return parts.length > 1 ? parts.map((p) => p.replace(/\/$/, "")).join("/") : parts.join("");
}

// The site's lanes; one of them opened at a time.
export function LaneList(props: { site: Site; document: Document; onChange: (part: Partial<Document>) => void }) {
  const { site, document: d } = props;
  const address = useAddress();
  const open = address.parts[1];
  const set = (name: string, part: Partial<Lane>) => props.onChange({ lanes: d.lanes.map((l) => (l.name === name ? { ...l, ...part } : l)) });
  const [name, setName] = useState("");
  const [kind, setKind] = useState(kinds[0]!);
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
          props.onChange({ lanes: [...d.lanes, { name, kind: kind.name, fresh_s: kind.fresh_s, max_age_s: 3600, visibility: "public", original: "no", metadata: "strip", unshared: "forget", svg: "draw" }] });
          go(addressOf("lanes", [site.name, name]));
          setName("");
        }}
      >
        <Field label="Another lane" value={name} onChange={setName} placeholder="photos" />
        <Labelled label="Kind">
          <Choice label="Kind of the lane" value={kind.name} options={options(words.Lane.kind)} onChange={(name) => setKind(kinds.find((k) => k.name === name)!)} />
        </Labelled>
        <Button type="submit">Draft it</Button>
      </form>
    </section>
  );
}

function OneLane(props: { site: Site; lane: Lane; kept: boolean; onChange: (part: Partial<Lane>) => void; onRemove: () => void }) {
  const { lane: l, onChange } = props;
  const kind = kindOf(l);
  const fields = (kind?.fields ?? []).filter((f) => !f.unless || !textOf(l, f.unless));
  const secrets = kind?.secrets && !(kind.secrets.unless && textOf(l, kind.secrets.unless)) ? kind.secrets.form : undefined;
  return (
    <div className="flex flex-col gap-4 pb-4 pl-4">
      <div className="grid gap-x-6 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">
        {fields.map((f) => (
          <KindField key={f.name} field={f} lane={l} onChange={onChange} />
        ))}
        <NumberField label="Fresh, seconds" value={l.fresh_s ?? 0} onChange={(fresh_s) => onChange({ fresh_s })} hint="Where the origin doesn't say" />
        <Field
          label="Not asked again when missing, seconds"
          value={l.missing_s == null ? "" : String(l.missing_s)}
          onChange={(v) => /^\d*$/.test(v.trim()) && onChange({ missing_s: v.trim() === "" ? undefined : Number(v) })}
          hint="Empty: 5, or as fresh where that is less"
        />
        <NumberField label="Kept by browsers, seconds" value={l.max_age_s ?? 0} onChange={(max_age_s) => onChange({ max_age_s })} />
        <Field
          label="Kept by caches in front, seconds"
          value={l.cdn_max_age_s == null ? "" : String(l.cdn_max_age_s)}
          onChange={(v) => /^\d*$/.test(v.trim()) && onChange({ cdn_max_age_s: v.trim() === "" ? undefined : Number(v) })}
          hint="Empty: as browsers do"
        />
        <NumberField label="Largest source, bytes" value={l.source_bytes ?? 0} onChange={(v) => onChange({ source_bytes: v || undefined })} hint="0: as the site" />
        <Labelled label="Visibility">
          <Choice label="Visibility" value={l.visibility} options={options(words.Lane.visibility)} onChange={(visibility) => onChange({ visibility })} />
        </Labelled>
        <Labelled label="The source itself">
          <Choice label="Original" value={l.original} options={options(words.Lane.original)} onChange={(original) => onChange({ original })} />
        </Labelled>
        <Labelled label="Drawings in SVG">
          <Choice label="SVG" value={l.svg} options={options(words.Lane.svg)} onChange={(svg) => onChange({ svg })} />
        </Labelled>
        <Labelled label="Its metadata, when downloaded">
          <Choice label="Metadata" value={l.metadata} options={options(words.Lane.metadata)} onChange={(metadata) => onChange({ metadata })} />
        </Labelled>
      </div>
      {props.kept ? (
        <>
          <TestBox site={props.site.name} lane={l} />
          {secrets && <Secrets site={props.site} lane={l} form={secrets} />}
          {kind?.receives && <DropBox site={props.site.name} lane={l.name} />}
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

// One of the fields that only some kinds have: a list, a choice of words, or a line of text.
function KindField(props: { field: LaneField; lane: Lane; onChange: (part: Partial<Lane>) => void }) {
  const { name, label, hint, list } = props.field;
  const value = props.lane[name] ?? "";
  const choices: readonly string[] | undefined = (words.Lane as Partial<Record<keyof Lane, readonly string[]>>)[name];
  if (choices)
    return (
      <Labelled label={label}>
        <Choice label={label} value={String(value)} options={options(choices)} onChange={(v) => props.onChange({ [name]: v })} />
      </Labelled>
    );
  if (list) return <ListField label={label} hint={hint} value={Array.isArray(value) ? value : []} onChange={(v) => props.onChange({ [name]: v })} />;
  return <Field label={label} hint={hint} value={String(value)} onChange={(v) => props.onChange({ [name]: v || undefined })} />;
}

function TestBox({ site, lane }: { site: string; lane: Lane }) {
  const without = kindOf(lane)?.urlWithout;
  const byURL = without && !textOf(lane, without);
  const [source, setSource] = useState("");
  const [steps, setSteps] = useState<Step[]>();
  const [error, setError] = useState<Error>();
  return (
    <form
      aria-label="Test a source"
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        getTestLane(site, lane.name, source).then((t) => (setSteps(t.steps), setError(undefined)), setError);
      }}
    >
      <div className="flex items-end gap-2">
        <div className="max-w-xl flex-1">
          <Field label="Would this source be allowed?" value={source} onChange={setSource} placeholder={byURL ? "https://photos.kestrel.test/crowd.jpg" : "summer/delta-red.jpg"} />
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

function Secrets({ site, lane, form }: { site: Site; lane: Lane; form: "headers" | "credentials" }) {
  const queries = useQueryClient();
  const headers = form === "headers";
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
        putSecret(site.name, lane.name, headers ? { header: name, value } : { access_key: name, secret_key: value }).then(() => (setName(""), setValue(""), setError(undefined), again()), setError);
      }}
    >
      <span className="text-soft">{headers ? "Request headers, sent to this lane's origin alone" : "Credentials"}: kept encrypted, never shown again</span>
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
        <Field label={headers ? "Header" : "Access key"} value={name} onChange={setName} placeholder={headers ? "Authorization" : undefined} />
        <Field label={headers ? "Value" : "Secret key"} type="password" autoComplete="new-password" value={value} onChange={setValue} />
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
