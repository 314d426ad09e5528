import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { markup } from "../api/calls";
import { useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Field, Labelled } from "../parts/Field";
import { bytesText } from "../parts/figures";
import { Trouble } from "../parts/Trouble";
import { writeDeclarations, type Declarations } from "./declarations";
import { useSettled } from "./pictures";

const kinds = ["html", "jsx", "css", "json"] as const;

// Markup writes the HTML for the source in a slot, and says which rung browsers take on some screens.
export function Markup(props: { site: string; lane: string; path: string; declared: Declarations }) {
  const { query } = useAddress(); // a link may bring a slot and a text along
  const [slot, setSlot] = useState(query.get("slot") ?? "(min-width: 900px) 33vw, 100vw");
  const [container, setContainer] = useState(query.get("container") ?? "");
  const [alt, setAlt] = useState(query.get("alt") ?? "");
  const [decorative, setDecorative] = useState(false);
  const [first, setFirst] = useState(false);
  const [above, setAbove] = useState(false);
  const [placeholder, setPlaceholder] = useState<"nothing" | "picture" | "colour">("nothing");
  const [kind, setKind] = useState<(typeof kinds)[number]>("html");
  const [copied, setCopied] = useState(false);
  const { width: _, height: __, ...rest } = props.declared;
  const ask = useSettled(
    JSON.stringify({ source: `${props.lane}/${props.path}`, slot, container: container || undefined, alt: alt || undefined, decorative, first, above, placeholder: placeholder === "nothing" ? undefined : placeholder, declarations: writeDeclarations(rest).toString() }),
    400,
  );
  const ready = alt !== "" || decorative;
  const made = useQuery({ queryKey: ["markup", props.site, ask], queryFn: () => markup(props.site, JSON.parse(ask)), enabled: ready && slot !== "", placeholderData: (b) => b });
  const m = made.data;
  const text = m && (kind === "json" ? JSON.stringify(m.markup, null, 2) : (kind === "html" ? m.preload : "") + m[kind]);
  const box = (label: string, on: boolean, set: (v: boolean) => void) => (
    <label className="flex items-center gap-1.5">
      <input type="checkbox" checked={on} onChange={(e) => set(e.target.checked)} className="accent-(--color-accent)" />
      {label}
    </label>
  );
  return (
    <section aria-label="Markup" className="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto p-4">
      <div className="grid gap-3 sm:grid-cols-2">
        <Field label="Slot" value={slot} onChange={setSlot} hint="width: 320px; aspect-ratio: 3/2 · max-width: 800px · (min-width: 900px) 33vw, 100vw" />
        <Field label="Container" value={container} onChange={setContainer} placeholder="max-width: 720px" hint="The box that percentages are of; absent: the viewport" />
        <Field label="Alt" value={alt} onChange={setAlt} hint="The text alternative of the picture" />
        <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
          {box("decorative", decorative, setDecorative)}
          {box("seen first", first, setFirst)}
          {box("seen without scrolling", above, setAbove)}
          <Labelled label="Until it is there">
            <Choice label="Until it is there" value={placeholder} options={["nothing", "picture", "colour"].map((v) => ({ value: v as "nothing", text: v }))} onChange={setPlaceholder} />
          </Labelled>
        </div>
      </div>
      {!ready && <p className="text-soft">Say what the picture shows, or that it is decorative: alt is never invented.</p>}
      {made.error && <Trouble error={made.error} />}
      {m && ready && (
        <>
          <div className="flex flex-wrap items-center gap-2">
            <Choice label="Written as" value={kind} options={kinds.map((k) => ({ value: k, text: k }))} onChange={setKind} />
            <Button onClick={() => navigator.clipboard.writeText(text ?? "").then(() => (setCopied(true), setTimeout(() => setCopied(false), 1500)))}>{copied ? "Copied" : "Copy"}</Button>
            {made.isFetching && <span className="text-soft">measuring…</span>}
          </div>
          <pre className="figures max-h-72 overflow-auto border border-line bg-panel p-2 text-xs break-all whitespace-pre-wrap" data-testid="markup">
            {text}
          </pre>
          {m.markup.warnings.map((w) => (
            <p key={w}>{w}</p>
          ))}
          <h2 className="font-semibold">What browsers take</h2>
          <table className="figures max-w-xl text-left text-sm">
            <thead className="text-soft">
              <tr>
                {["viewport", "density", "shown", "takes", "weighs"].map((h) => (
                  <th key={h} className="py-1 pr-4 text-right font-normal">
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {m.picks.map((p) => (
                <tr key={p.viewport + "@" + p.density} className="border-t border-line">
                  <td className="py-1 pr-4 text-right">{p.viewport}</td>
                  <td className="py-1 pr-4 text-right">{p.density}×</td>
                  <td className="py-1 pr-4 text-right">{Math.round(p.shown)}</td>
                  <td className="py-1 pr-4 text-right">{p.width}</td>
                  <td className="py-1 pr-4 text-right">{bytesText(p.bytes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </section>
  );
}
