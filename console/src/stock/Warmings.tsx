// Variants that are made before somebody asks for them: what it would come to, how far it is.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { listWarmings, setWarming, warm } from "../api/calls";
import type { Schemas } from "../api/client";
import { Button } from "../parts/Button";
import { Field, Labelled } from "../parts/Field";
import { bytesText, countText, lengthText, manyText, whenText } from "../parts/figures";
import { Pick } from "../parts/Pick";
import { Trouble } from "../parts/Trouble";
import { Window } from "../parts/Window";

export function Warmings({ site }: { site: Schemas["Site"] }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["warmings", site.name], queryFn: ({ signal }) => listWarmings(site.name, signal), refetchInterval: 1500 });
  const [asking, setAsking] = useState(false);
  const [error, setError] = useState<Error>();
  const set = (id: number, state: Schemas["SetWarming"]["state"]) =>
    setWarming(site.name, String(id), { state }).then(() => (setError(undefined), queries.invalidateQueries({ queryKey: ["warmings", site.name] })), setError);
  return (
    <section aria-label="Made ahead" className="flex flex-col gap-2">
      <div className="flex items-center gap-3">
        <h2 className="flex-1 font-semibold">Made ahead</h2>
        <Button kind="main" disabled={!site.document.lanes.length} onClick={() => setAsking(true)}>
          Make ahead…
        </Button>
      </div>
      {(error ?? list.error) && <Trouble error={(error ?? list.error)!} />}
      {list.data?.length === 0 && <p className="text-soft">Nothing was made ahead. It takes a lane, its widths and its formats; visitors go first.</p>}
      <ul className="flex flex-col">
        {list.data?.slice(0, 20).map((w) => {
          const did = w.made + w.kept + w.left_out;
          return (
            <li key={w.id} className="grid items-center gap-x-4 gap-y-1 border-t border-line py-2 md:grid-cols-[minmax(10rem,1fr)_minmax(12rem,2fr)_auto]">
              <div>
                <span className="figures break-all">{w.what}</span>
                <span className="block text-xs text-soft">
                  {w.state}, begun {whenText(w.begun_at)} by {w.by}
                </span>
              </div>
              <div>
                <div role="progressbar" aria-label={w.what} aria-valuemin={0} aria-valuemax={w.variants} aria-valuenow={did} className="h-2 border border-edge">
                  <div className="h-full bg-accent" style={{ width: `${w.variants > 0 ? (100 * did) / w.variants : 0}%` }} />
                </div>
                <span className="figures text-xs">
                  {countText(did)} of {countText(w.variants)}: {countText(w.made)} made ({bytesText(w.bytes)}), {countText(w.kept)} were there{w.left_out > 0 && <span className="text-trouble">, {countText(w.left_out)} left out</span>}
                  {w.state === "running" && w.per_second ? `; ${w.per_second} a second, ${lengthText(w.left_s ?? 0)} left` : ""}
                </span>
              </div>
              <div className="flex gap-2">
                {w.state === "running" && <Button onClick={() => set(w.id, "paused")}>Pause</Button>}
                {w.state === "paused" && <Button onClick={() => set(w.id, "running")}>Go on</Button>}
                {(w.state === "running" || w.state === "paused") && <Button onClick={() => set(w.id, "stopped")}>Stop</Button>}
              </div>
            </li>
          );
        })}
      </ul>
      {asking && <Ask site={site} onClose={() => setAsking(false)} />}
    </section>
  );
}

function Ask({ site, onClose }: { site: Schemas["Site"]; onClose: () => void }) {
  const queries = useQueryClient();
  const [lane, setLane] = useState(site.document.lanes[0]?.name ?? "");
  const [below, setBelow] = useState("");
  const [widths, setWidths] = useState(site.document.ladder.rungs.join(", "));
  const [formats, setFormats] = useState<string[]>(site.document.formats);
  const [declarations, setDeclarations] = useState("");
  const [would, setWould] = useState<Schemas["Warming"]>();
  const [error, setError] = useState<Error>();
  const ask = { lane, below: below || undefined, widths: widths.split(/[\s,]+/).filter(Boolean).map(Number), formats, declarations: declarations || undefined };
  const changed = () => (setWould(undefined), setError(undefined));
  return (
    <Window title="Make ahead" open onClose={onClose}>
      <Labelled label="Lane">
        <Pick label="Lane" value={lane} wide options={site.document.lanes.map((l) => ({ value: l.name, text: l.name }))} onChange={(v) => (setLane(v), changed())} />
      </Labelled>
      <Field label="Below" value={below} onChange={(v) => (setBelow(v), changed())} placeholder="all its sources" hint="Sources whose paths begin so, such as summer/" />
      <Field label="Widths" value={widths} onChange={(v) => (setWidths(v), changed())} placeholder="320, 640, 1280" hint="In device pixels" />
      <fieldset className="flex flex-wrap gap-3">
        <legend className="text-soft">Formats</legend>
        {site.document.formats.map((f) => (
          <label key={f} className="flex items-center gap-1">
            <input type="checkbox" checked={formats.includes(f)} onChange={(e) => (setFormats(site.document.formats.filter((x) => (x === f ? e.target.checked : formats.includes(x)))), changed())} />
            {f}
          </label>
        ))}
      </fieldset>
      <Field label="Further declarations" value={declarations} onChange={(v) => (setDeclarations(v), changed())} placeholder="object-fit=cover&aspect-ratio=1" />
      {error && <Trouble error={error} />}
      {would?.forecast && (
        <p role="status">
          {manyText(would.forecast.variants, "variant")} of {manyText(would.sources, "source")}, of which about {countText(would.forecast.kept)} are there: about {bytesText(would.forecast.bytes)} in{" "}
          {lengthText(would.forecast.seconds)} with the {manyText(would.forecast.workers, "worker")} of this node, if nobody else wants them.
        </p>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Close</Button>
        <Button onClick={() => warm(site.name, { ...ask, dry_run: true }).then((w) => (setError(undefined), setWould(w)), setError)}>Forecast</Button>
        <Button kind="main" disabled={!would} onClick={() => warm(site.name, ask).then(() => (void queries.invalidateQueries({ queryKey: ["warmings", site.name] }), onClose()), setError)}>
          Begin
        </Button>
      </div>
    </Window>
  );
}
