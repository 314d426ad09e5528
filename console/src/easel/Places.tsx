// Places on the picture: what was found in it, where its subject is by a person's word, boxes drawn for the part to start from, for what
// is redacted and what is erased, and masks that fade it.
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { removeFocus, setFocus } from "../api/calls";
import type { Facts } from "../api/client";
import { Choice } from "../parts/Choice";
import { Trouble } from "../parts/Trouble";
import { between, corner, handles, holds, moved, percents, stepOf, within, type Box, type How } from "../parts/boxes";
import type { Declarations } from "./declarations";
import { fade, fadeOf, spot, spotOf, type Point } from "./masks";
import { useBlobAddress, useFound, type Picture } from "./pictures";

// What is drawn: into which declaration, and whether there is one of it or several.
const uses = [
  { value: "xywh", text: "part", one: true },
  { value: "redact", text: "redact", one: false },
  { value: "erase", text: "erase", one: false },
  { value: "fade", text: "fade", one: true },
  { value: "spot", text: "spot", one: true },
  { value: "focus", text: "focus", one: true },
] as const;

type Use = (typeof uses)[number]["value"];

const hints: Record<Use, string> = {
  xywh: "Drag to draw the box, drag it to move it, its handles to size it. It goes into the address, and is listed under Part and turn.",
  redact: "Drag to draw a box, drag one to move it, its handles to size it. Boxes go into the address, and are listed under Part and turn.",
  erase: "Drag to draw a box, drag one to move it, its handles to size it. Boxes go into the address, and are listed under Part and turn.",
  fade: "Drag from where the picture is to be whole to where it is to be gone. The mask lies on the variant as it is delivered.",
  spot: "Drag a box: the picture fades to the ellipse in it. The mask lies on the variant as it is delivered.",
  focus: "Click where the subject is, or drag a box around it: object-position=subject and mask-image=subject go by it from then on, in every address of this source.",
};

const least = 0.01;

// Something that is drawn already: a box, or one end of a fade.
type Item = { use: "xywh" | "redact" | "erase"; text: string; box: Box } | { use: "spot"; box: Box } | { use: "fade"; end: 0 | 1; box: Box };

const nameOf = (i: Item) => (i.use === "spot" ? "spot" : i.use === "fade" ? `fade ${i.end}` : `${i.use} ${i.text}`);

export function Places(props: {
  site: string;
  lane: string;
  path: string;
  original: Picture | undefined;
  variant: Picture | undefined;
  source: string;
  error: Error | null;
  declared: Declarations;
  onChange: (name: string, value: string | undefined) => void;
}) {
  const [use, setUse] = useState<Use>("redact");
  const found = useFound(props.source);
  const queries = useQueryClient();
  const [trouble, setTrouble] = useState<Error>();
  const said = async (what: Promise<unknown>) => {
    setTrouble(undefined);
    try {
      await what;
      await Promise.all(["found", "picture"].map((k) => queries.invalidateQueries({ queryKey: [k] })));
    } catch (e) {
      setTrouble(e as Error);
    }
  };
  const [picked, setPicked] = useState<string>();
  const [drag, setDrag] = useState<{ item: Item | undefined; how: How; x: number; y: number; nowX: number; nowY: number }>();
  const masking = use === "fade" || use === "spot";
  const shown = masking ? props.variant : props.original;
  const address = useBlobAddress(shown?.blob);

  const more = props.declared.more;
  const values = { xywh: words(more["xywh"]), redact: words(more["redact"]), erase: words(more["erase"]) };
  const set = (name: keyof typeof values, list: string[]) => props.onChange(name, list.length ? list.join(" ") : undefined);
  const items: Item[] = [];
  if (!masking) {
    for (const u of ["xywh", "redact", "erase"] as const) {
      for (const text of values[u]) {
        const box = boxOf(text, found.data);
        if (box) items.push({ use: u, text, box });
      }
    }
  }
  const ends = use === "fade" && shown ? fadeOf(more["mask-image"], shown.width, shown.height) : undefined;
  ends?.forEach(([x, y], end) => items.push({ use: "fade", end: end as 0 | 1, box: { x, y, width: 0, height: 0 } }));
  const spotted = use === "spot" ? spotOf(more["mask-image"]) : undefined;
  if (spotted) items.push({ use: "spot", box: spotted });

  const put = (item: Item, box: Box) => {
    switch (item.use) {
      case "spot":
        return props.onChange("mask-image", spot(box));
      case "fade": {
        const to: [Point, Point] = [ends![0], ends![1]];
        to[item.end] = [box.x, box.y];
        return props.onChange("mask-image", fade(to, shown!.width, shown!.height));
      }
      default: {
        const text = textOf(box);
        setPicked(nameOf({ ...item, text }));
        return set(item.use, values[item.use].map((w) => (w === item.text ? text : w)));
      }
    }
  };
  const drop = (item: Item) => (item.use === "spot" || item.use === "fade" ? props.onChange("mask-image", undefined) : set(item.use, values[item.use].filter((w) => w !== item.text)));
  const to = (item: Item, how: How, dx: number, dy: number): Box => {
    const box = moved(item.box, how, dx, dy, least);
    return item.use === "fade" || item.use === "spot" ? box : within(box, how); // a mask may reach over the edge
  };

  const at = (e: React.PointerEvent<HTMLElement>) => {
    const r = e.currentTarget.getBoundingClientRect();
    const clamp = (v: number) => Math.min(1, Math.max(0, v));
    return { x: clamp((e.clientX - r.left) / r.width), y: clamp((e.clientY - r.top) / r.height) };
  };
  const begin = (e: React.PointerEvent<HTMLElement>) => {
    const on = (e.target as HTMLElement).dataset;
    if (e.target !== e.currentTarget && on["handle"] === undefined) return;
    const p = at(e);
    const sized = items.find((i) => nameOf(i) === on["of"]);
    const hit = sized ?? [...items].reverse().find((i) => i.use === use && i.use !== "fade" && holds(i.box, p.x, p.y));
    e.currentTarget.setPointerCapture(e.pointerId);
    setPicked(hit && nameOf(hit));
    setDrag({ item: hit, how: handles.find((h) => h.name === on["handle"]) ?? "move", x: p.x, y: p.y, nowX: p.x, nowY: p.y });
  };
  const end = () => {
    setDrag(undefined);
    if (!drag) return;
    const [dx, dy] = [drag.nowX - drag.x, drag.nowY - drag.y];
    if (drag.item) {
      if (Math.hypot(dx, dy) >= least / 2) put(drag.item, to(drag.item, drag.how, dx, dy));
      return;
    }
    const b = between(drag.x, drag.y, drag.nowX, drag.nowY);
    const point = b.width < least || b.height < least;
    if (use === "focus") {
      const focus = point ? `${percent(drag.x)}% ${percent(drag.y)}%` : textOf(b);
      void said(setFocus(props.site, props.lane, { path: props.path, focus }));
      return;
    }
    if (use === "fade") {
      if (Math.hypot(dx, dy) >= least) props.onChange("mask-image", fade([[drag.x, drag.y], [drag.nowX, drag.nowY]], shown!.width, shown!.height));
      return;
    }
    if (point) return;
    if (use === "spot") return props.onChange("mask-image", spot(b));
    set(use, use === "xywh" ? [textOf(b)] : [...values[use], textOf(b)]);
  };
  const key = (e: React.KeyboardEvent, item: Item) => {
    const step = stepOf(e.key);
    if (e.key === "Delete" || e.key === "Backspace") drop(item);
    else if (step) put(item, to(item, e.shiftKey && item.use !== "fade" ? corner : "move", step[0], step[1]));
    else return;
    e.preventDefault();
  };
  const now = (i: Item): Box => (drag?.item && nameOf(drag.item) === nameOf(i) ? to(i, drag.how, drag.nowX - drag.x, drag.nowY - drag.y) : i.box);

  const faces = found.data?.faces ?? [];
  const subject = found.data?.subject;
  const pointed = subject?.by === "person";
  const faceless = values.redact.includes("faces");
  const problem = props.error ?? found.error ?? trouble;
  const fading = items.flatMap((i) => (i.use === "fade" ? [now(i)] : []));
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto p-4">
      {problem && <Trouble error={problem} />}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <span>Draw</span>
        <Choice label="Draw" value={use} options={uses.map(({ value, text }) => ({ value, text }))} onChange={setUse} />
        {!masking && faces.length > 0 && (
          <button
            type="button"
            aria-pressed={faceless}
            className={"border border-edge px-2 py-0.5 " + (faceless ? "bg-accent text-on-accent" : "")}
            onClick={() => set("redact", faceless ? values.redact.filter((w) => w !== "faces") : ["faces", ...values.redact])}
          >
            Redact faces
          </button>
        )}
        {pointed && (
          <button type="button" className="border border-edge px-2 py-0.5" onClick={() => void said(removeFocus(props.site, props.lane, props.path))}>
            Remove the focus
          </button>
        )}
        <p className="text-sm text-soft">
          {!found.data ? "Looking…" : pointed ? "Subject: set by somebody; " : subject && subject.by !== "nothing" ? `Subject: found by ${subject.by}, ${Math.round(100 * subject.sure)} % sure; ` : "No subject stands out; "}
          {found.data && `faces: ${faces.length}`}
        </p>
      </div>
      {shown && address && (
        <div
          role="group"
          aria-label={use === "focus" ? "The picture: click where its subject is, or drag a box around it" : use === "fade" ? "The variant: drag to draw a fade" : "The picture: drag to draw a box"}
          onPointerDown={begin}
          onPointerMove={(e) => {
            if (!drag) return;
            const p = at(e);
            setDrag({ ...drag, nowX: p.x, nowY: p.y });
          }}
          onPointerUp={end}
          onPointerCancel={() => setDrag(undefined)}
          className="relative touch-none cursor-crosshair select-none"
          style={{ aspectRatio: `${shown.width} / ${shown.height}`, width: `min(100%, calc((100dvh - 16rem) * ${shown.width / shown.height}))` }}
        >
          <img src={address} alt={masking ? "The variant" : "The original"} draggable={false} className={"pointer-events-none block h-full w-full " + (masking ? "checkered" : "")} />
          {!masking && subject && subject.by !== "nothing" && <Frame box={atLeast(ofCorners(subject))} className={"border-dashed " + (pointed ? "border-accent" : "border-ground")} says={pointed ? "focus" : "subject"} />}
          {!masking &&
            faces.map((f, i) => <Frame key={i} box={ofCorners(f)} className={faceless ? "border-accent bg-accent/60" : "border-ground"} says={faceless ? "redacted" : `face ${i + 1}`} face={i + 1} />)}
          {fading.length === 2 && <Line from={fading[0]!} to={fading[1]!} />}
          {items.map((i) =>
            i.use === "fade" ? (
              <span
                key={nameOf(i)}
                data-handle="end"
                data-of={nameOf(i)}
                title={i.end === 0 ? "whole" : "gone"}
                className={"absolute size-4 -translate-1/2 cursor-move rounded-full border-2 border-accent " + (i.end === 0 ? "bg-accent" : "bg-ground")}
                style={{ left: `${100 * now(i).x}%`, top: `${100 * now(i).y}%` }}
              />
            ) : (
              <Frame key={nameOf(i)} box={now(i)} className={"border-accent " + (i.use === "spot" ? "rounded-[50%]" : "bg-accent/20")} says={i.use === "spot" ? "" : uses.find((u) => u.value === i.use)!.text}>
                {i.use !== "spot" && (
                  <button type="button" aria-label={`Remove ${i.text} from ${i.use}`} className="pointer-events-auto absolute right-0 top-0 bg-ground px-1 leading-tight text-ink" onClick={() => drop(i)}>
                    ×
                  </button>
                )}
                {(i.use === "spot" || nameOf(i) === picked) &&
                  handles.map((h) => (
                    <span key={h.name} data-handle={h.name} data-of={nameOf(i)} className="pointer-events-auto absolute size-3 -translate-1/2 border border-ground bg-accent" style={{ left: `${100 * h.x}%`, top: `${100 * h.y}%`, cursor: h.cursor }} />
                  ))}
              </Frame>
            ),
          )}
          {drag && !drag.item && use === "fade" && <Line from={{ x: drag.x, y: drag.y }} to={{ x: drag.nowX, y: drag.nowY }} />}
          {drag && !drag.item && use !== "fade" && <Frame box={between(drag.x, drag.y, drag.nowX, drag.nowY)} className={"border-accent bg-accent/20 " + (use === "spot" ? "rounded-[50%]" : "")} says={use === "spot" ? "" : use} />}
        </div>
      )}
      {items.length > 0 && (
        <ul className="flex flex-wrap gap-1" aria-label="Drawn">
          {items.map((i, n) => {
            const text = i.use === "fade" ? ["whole", "gone"][i.end]! : uses.find((u) => u.value === i.use)!.text;
            return (
              <li key={n}>
                <button
                  type="button"
                  aria-pressed={nameOf(i) === picked}
                  aria-label={i.use === "fade" ? `${text}: ${Math.round(100 * i.box.x)} %, ${Math.round(100 * i.box.y)} %` : `${text}: ${percents(now(i))}`}
                  onFocus={() => setPicked(nameOf(i))}
                  onClick={() => setPicked(nameOf(i))}
                  onKeyDown={(e) => key(e, i)}
                  className={"figures border border-edge px-2 py-0.5 " + (nameOf(i) === picked ? "bg-accent text-on-accent" : "")}
                >
                  {text}
                </button>
              </li>
            );
          })}
        </ul>
      )}
      <p className="text-sm text-soft">
        {hints[use]}
        {items.length > 0 && " By keyboard the arrows move what is picked below the picture, with Shift they size it, and Delete removes it."}
      </p>
    </div>
  );
}

function Line(props: { from: { x: number; y: number }; to: { x: number; y: number } }) {
  const part = (v: number) => `${100 * v}%`;
  const line = { x1: part(props.from.x), y1: part(props.from.y), x2: part(props.to.x), y2: part(props.to.y) };
  return (
    <svg aria-hidden="true" className="pointer-events-none absolute inset-0 h-full w-full overflow-visible">
      <line {...line} stroke="rgb(0 0 0 / 0.5)" strokeWidth="4" />
      <line {...line} className="stroke-accent" strokeWidth="2" />
    </svg>
  );
}

function Frame(props: { box: Box; className: string; says: string; face?: number; children?: React.ReactNode }) {
  const { x, y, width, height } = props.box;
  const part = (v: number) => `${100 * v}%`;
  return (
    <div data-face={props.face} className={"pointer-events-none absolute border-2 shadow-[0_0_0_1px_rgb(0_0_0/0.5)] " + props.className} style={{ left: part(x), top: part(y), width: part(width), height: part(height) }}>
      {props.says && <span className={"absolute left-0 whitespace-nowrap bg-ground px-1 text-xs leading-tight text-ink " + (props.face ? "bottom-full" : "top-0")}>{props.says}</span>}
      {props.children}
    </div>
  );
}

const ofCorners = (b: { x0: number; y0: number; x1: number; y1: number }): Box => ({ x: b.x0, y: b.y0, width: b.x1 - b.x0, height: b.y1 - b.y0 });

// atLeast is a box that can be seen, also where it is a point.
const atLeast = (b: Box): Box => {
  const grow = (low: number, length: number): [number, number] => {
    if (length >= 0.02) return [low, length];
    const from = Math.max(0, low + length / 2 - 0.01);
    return [from, Math.min(1, from + 0.02) - from];
  };
  const [x, width] = grow(b.x, b.width);
  const [y, height] = grow(b.y, b.height);
  return { x, y, width, height };
};

const percent = (v: number) => +(100 * v).toFixed(1);

// textOf is a box as xywh, redact and erase have it.
const textOf = (b: Box) => `percent:${[b.x, b.y, b.width, b.height].map(percent).join(",")}`;

// The words of a value, where what stands in parentheses is one.
const words = (value: string | undefined): string[] => (value ?? "").match(/[^\s(]+\([^)]*\)|\S+/g) ?? [];

// The box of x,y,width,height in pixels or percent, in parts of the picture's sides.
function boxOf(text: string, facts: Facts | undefined): Box | undefined {
  const [, unit, sides] = /^(percent:|pixel:)?([\d.]+(?:,[\d.]+){3})$/i.exec(text) ?? [];
  if (!sides) return undefined;
  const [x = 0, y = 0, w = 0, h = 0] = sides.split(",").map(Number);
  const inPercent = unit?.toLowerCase() === "percent:";
  if (!inPercent && !facts) return undefined;
  const width = inPercent ? 100 : facts!.width;
  const height = inPercent ? 100 : facts!.height;
  return between(x / width, y / height, Math.min(1, (x + w) / width), Math.min(1, (y + h) / height));
}
