// The layers of a class on the picture: what is moved and sized here is written into the sheet.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { getLayers, previewAddress } from "../api/calls";
import type { Schemas } from "../api/client";
import { useSettled } from "../easel/pictures";
import { Field } from "../parts/Field";
import { Trouble } from "../parts/Trouble";
import { corner, handles, holds, moved, percents, stepOf, type Box, type How } from "../parts/boxes";
import { said } from "./rules";

type Layer = Schemas["Layer"];

const overflows: Record<string, string> = { wider: "is wider than its box", higher: "is higher than its box", cut: "has more lines than line-clamp allows" };

export function Place(props: { site: string; source: string; classes: string[]; data: string; mark: string; text: string; drawn: boolean; onChange: (text: string) => void }) {
  const [named, setNamed] = useState("");
  const typed = useSettled(named, 400).trim();
  const of = typed || props.classes.find((c) => props.text.includes(`.${c}::`)) || "";
  const shown = useQuery({
    queryKey: ["layers", props.site, props.source, of, props.data, props.mark],
    queryFn: ({ signal }) => getLayers(props.site, props.source, of, true, props.data, signal),
    placeholderData: (before) => before,
    retry: false,
  });
  const [picked, setPicked] = useState<string>();
  const [drag, setDrag] = useState<{ how: How; x: number; y: number; from: Box }>();
  // Where a layer was put, until the service has drawn it there: whoever goes on meanwhile goes on from here.
  const [put, setPut] = useState<{ name: string; box: Box }>();
  const all = shown.data;
  const drawn = props.drawn && !shown.isPlaceholderData;
  useEffect(() => {
    if (drawn && !drag) setPut(undefined);
  }, [all, drawn]);
  const layers = all?.layers ?? [];
  const layer = layers.find((l) => l.name === picked);
  const boxOf = (l: Layer): Box => (put?.name === l.name ? put.box : l);

  const write = (l: Layer, to: Box) => {
    const part = (v: number, whole: number) => `${+((100 * v) / whole).toFixed(2)}%`;
    const set: Record<string, string> = { inset: `${part(to.y, all!.height)} auto auto ${part(to.x, all!.width)}` };
    if (!l.follow?.includes("width") || Math.abs(to.width - l.width) > 0.5) set["width"] = part(to.width, all!.width);
    if (!l.follow?.includes("height") || Math.abs(to.height - l.height) > 0.5) set["height"] = part(to.height, all!.height);
    props.onChange(said(props.text, of.split(/\s+/).filter(Boolean), l.selector, set, ["left", "top", "right", "bottom"]));
  };
  const at = (e: React.PointerEvent<HTMLElement>) => {
    const r = e.currentTarget.getBoundingClientRect();
    return { x: ((e.clientX - r.left) / r.width) * all!.width, y: ((e.clientY - r.top) / r.height) * all!.height };
  };
  const begin = (e: React.PointerEvent<HTMLElement>) => {
    if (!all) return;
    const p = at(e);
    const name = (e.target as HTMLElement).dataset["handle"];
    const how = handles.find((h) => h.name === name);
    const under = [...layers].reverse().filter((l) => holds({ ...l, ...boxOf(l) }, p.x, p.y));
    const hit = how ? layer : (under.find((l) => l.name === picked) ?? under[0]);
    setPicked(hit?.name);
    if (!hit) return;
    e.currentTarget.setPointerCapture(e.pointerId);
    const { x, y, width, height } = boxOf(hit);
    setDrag({ how: how ?? "move", x: p.x, y: p.y, from: { x, y, width, height } });
  };
  const end = () => {
    setDrag(undefined);
    if (!drag || !layer) return;
    const now = boxOf(layer);
    if (Math.hypot(now.x - drag.from.x, now.y - drag.from.y, now.width - drag.from.width, now.height - drag.from.height) >= 0.5) write(layer, now);
  };
  const key = (e: React.KeyboardEvent, l: Layer) => {
    const step = stepOf(e.key);
    if (!step || !all) return;
    e.preventDefault();
    const box = moved(boxOf(l), e.shiftKey ? corner : "move", step[0] * all.width, step[1] * all.height, 4);
    setPut({ name: l.name, box });
    write(l, box);
  };
  const percent = (b: Box) => (all ? percents({ x: b.x / all.width, y: b.y / all.height, width: b.width / all.width, height: b.height / all.height }) : "");
  return (
    <fieldset className="flex flex-col gap-2 border border-line p-2">
      <legend className="px-1 text-soft">Layers on the picture</legend>
      <Field label="Classes" value={named} onChange={setNamed} placeholder={of || "card"} hint="Of the draft, with a space between. Drag a layer, or its handles; by keyboard the arrows move it, with Shift they size it. The sheet is written accordingly." />
      {shown.error && <Trouble error={shown.error} />}
      {all && layers.length === 0 && <p className="text-soft">These classes have no visible layers.</p>}
      {all && layers.length > 0 && (
        <>
          <div
            onPointerDown={begin}
            onPointerMove={(e) => {
              if (!drag || !layer) return;
              const p = at(e);
              setPut({ name: layer.name, box: moved(drag.from, drag.how, p.x - drag.x, p.y - drag.y, 4) });
            }}
            onPointerUp={end}
            onPointerCancel={() => (setDrag(undefined), setPut(undefined))}
            className="relative touch-none overflow-hidden select-none"
            style={{ aspectRatio: `${all.width} / ${all.height}`, width: `min(100%, ${all.width}px, calc(60dvh * ${all.width / all.height}))` }}
          >
            <img src={`${previewAddress(props.site, props.source, of, true, props.data)}&mark=${props.mark}`} alt={`${of}, ${props.source}, with its layers`} draggable={false} className="pointer-events-none block h-full w-full" />
            {layers.map((l) => {
              const b = boxOf(l);
              const on = l.name === picked;
              return (
                <div
                  key={l.name}
                  className={"pointer-events-none absolute " + (on ? "outline-2 outline-accent" : l.over ? "outline-1 outline-trouble outline-dashed" : "outline-1 outline-ground/60 outline-dashed")}
                  style={{ left: `${(100 * b.x) / all.width}%`, top: `${(100 * b.y) / all.height}%`, width: `${(100 * b.width) / all.width}%`, height: `${(100 * b.height) / all.height}%`, rotate: `${l.turn ?? 0}deg` }}
                >
                  {on &&
                    handles.map((h) => (
                      <span key={h.name} data-handle={h.name} className="pointer-events-auto absolute size-3 -translate-1/2 border border-ground bg-accent" style={{ left: `${100 * h.x}%`, top: `${100 * h.y}%`, cursor: h.cursor }} />
                    ))}
                </div>
              );
            })}
          </div>
          <ul className="flex flex-wrap gap-1" aria-label="Layers">
            {layers.map((l) => (
              <li key={l.name}>
                <button
                  type="button"
                  aria-pressed={l.name === picked}
                  aria-label={`${l.selector}: ${percent(boxOf(l))}`}
                  onClick={() => setPicked(l.name)}
                  onFocus={() => setPicked(l.name)}
                  onKeyDown={(e) => key(e, l)}
                  className={"figures border border-edge px-2 py-0.5 " + (l.name === picked ? "bg-accent text-on-accent" : "")}
                >
                  {l.selector}
                </button>
              </li>
            ))}
          </ul>
          <p className="figures text-sm text-soft" aria-live="polite">
            {layer ? `${layer.selector}: ${percent(boxOf(layer))}` : "No layer is picked"}
          </p>
          {layers
            .filter((l) => l.over)
            .map((l) => (
              <p key={l.name} className="text-sm text-trouble">
                The text of {l.selector} {l.over!.map((o) => overflows[o]).join(" and ")}.
              </p>
            ))}
        </>
      )}
    </fieldset>
  );
}
