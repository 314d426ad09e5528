// Places on the picture: what was found in it, where its subject is by a person's word, and boxes drawn for the part to start from, for
// what is redacted and what is erased.
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { removeFocus, setFocus } from "../api/calls";
import type { Facts } from "../api/client";
import { Choice } from "../parts/Choice";
import { Trouble } from "../parts/Trouble";
import type { Declarations } from "./declarations";
import { useBlobAddress, useFound, type Picture } from "./pictures";

interface Box {
  x0: number;
  y0: number;
  x1: number;
  y1: number;
}

const uses = [
  { value: "xywh", text: "part", one: true },
  { value: "redact", text: "redact", one: false },
  { value: "erase", text: "erase", one: false },
];

const focusing = "focus";

export function Places(props: { site: string; lane: string; path: string; original: Picture | undefined; source: string; error: Error | null; declared: Declarations; onChange: (name: string, value: string | undefined) => void }) {
  const [use, setUse] = useState("redact");
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
  const [drawn, setDrawn] = useState<Box>();
  const address = useBlobAddress(props.original?.blob);
  const values = Object.fromEntries(uses.map((u) => [u.value, words(props.declared.more[u.value])]));
  const boxes = uses.flatMap((u) => values[u.value]!.map((text) => ({ use: u.value, text, box: boxOf(text, found.data) })).filter((b) => b.box !== undefined));
  const set = (name: string, list: string[]) => props.onChange(name, list.length ? list.join(" ") : undefined);
  const at = (e: React.PointerEvent<HTMLElement>) => {
    const r = e.currentTarget.getBoundingClientRect();
    const within = (v: number) => Math.min(1, Math.max(0, v));
    return { x: within((e.clientX - r.left) / r.width), y: within((e.clientY - r.top) / r.height) };
  };
  const begin = (e: React.PointerEvent<HTMLElement>) => {
    if (e.target !== e.currentTarget) return;
    e.currentTarget.setPointerCapture(e.pointerId);
    const p = at(e);
    setDrawn({ x0: p.x, y0: p.y, x1: p.x, y1: p.y });
  };
  const end = () => {
    setDrawn(undefined);
    if (!drawn) return;
    const b = sorted(drawn);
    if (use === focusing) {
      const percent = (v: number) => +(100 * v).toFixed(1);
      const point = b.x1 - b.x0 < 0.01 || b.y1 - b.y0 < 0.01;
      const focus = point ? `${percent(drawn.x0)}% ${percent(drawn.y0)}%` : `percent:${[b.x0, b.y0, b.x1 - b.x0, b.y1 - b.y0].map(percent).join(",")}`;
      void said(setFocus(props.site, props.lane, { path: props.path, focus }));
      return;
    }
    if (b.x1 - b.x0 < 0.01 || b.y1 - b.y0 < 0.01) return;
    const percent = [b.x0, b.y0, b.x1 - b.x0, b.y1 - b.y0].map((v) => +(100 * v).toFixed(1));
    const text = `percent:${percent.join(",")}`;
    set(use, use === "xywh" ? [text] : [...values[use]!, text]);
  };
  const faces = found.data?.faces ?? [];
  const subject = found.data?.subject;
  const pointed = subject?.by === "person";
  const faceless = values["redact"]!.includes("faces");
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto p-4">
      {(props.error ?? found.error ?? trouble) && <Trouble error={(props.error ?? found.error ?? trouble)!} />}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <span>Draw</span>
        <Choice label="Draw" value={use} options={[...uses.map(({ value, text }) => ({ value, text })), { value: focusing, text: "focus" }]} onChange={setUse} />
        {faces.length > 0 && (
          <button
            type="button"
            aria-pressed={faceless}
            className={"border border-edge px-2 py-0.5 " + (faceless ? "bg-accent text-on-accent" : "")}
            onClick={() => set("redact", faceless ? values["redact"]!.filter((w) => w !== "faces") : ["faces", ...values["redact"]!])}
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
      {props.original && address && (
        <div
          role="group"
          aria-label={use === focusing ? "The picture: click where its subject is, or drag a box around it" : "The picture: drag to draw a box"}
          onPointerDown={begin}
          onPointerMove={(e) => {
            if (!drawn) return;
            const p = at(e);
            setDrawn({ ...drawn, x1: p.x, y1: p.y });
          }}
          onPointerUp={end}
          onPointerCancel={() => setDrawn(undefined)}
          className="relative touch-none cursor-crosshair select-none"
          style={{ aspectRatio: `${props.original.width} / ${props.original.height}`, width: `min(100%, calc((100dvh - 14rem) * ${props.original.width / props.original.height}))` }}
        >
          <img src={address} alt="The original" draggable={false} className="pointer-events-none block h-full w-full" />
          {subject && subject.by !== "nothing" && <Frame box={atLeast(subject)} className={"border-dashed " + (pointed ? "border-accent" : "border-ground")} says={pointed ? "focus" : "subject"} />}
          {faces.map((f, i) => (
            <Frame key={i} box={f} className={faceless ? "border-accent bg-accent/60" : "border-ground"} says={faceless ? "redacted" : `face ${i + 1}`} face={i + 1} />
          ))}
          {boxes.map((b, i) => (
            <Frame key={b.use + b.text + i} box={b.box!} className="border-accent bg-accent/20" says={uses.find((u) => u.value === b.use)!.text}>
              <button
                type="button"
                aria-label={`Remove ${b.text} from ${b.use}`}
                className="pointer-events-auto absolute right-0 top-0 bg-ground px-1 leading-tight text-ink"
                onClick={() => set(b.use, values[b.use]!.filter((w) => w !== b.text))}
              >
                ×
              </button>
            </Frame>
          ))}
          {drawn && <Frame box={sorted(drawn)} className="border-accent bg-accent/20" says={use} />}
        </div>
      )}
      <p className="text-sm text-soft">
        {use === focusing
          ? "Click where the subject is, or drag a box around it: object-position=subject and mask-image=subject go by it from then on, in every address of this source."
          : "Boxes go into the address, and are listed under Part and turn."}
      </p>
    </div>
  );
}

function Frame(props: { box: Box; className: string; says: string; face?: number; children?: React.ReactNode }) {
  const { x0, y0, x1, y1 } = props.box;
  const part = (v: number) => `${100 * v}%`;
  return (
    <div data-face={props.face} className={"pointer-events-none absolute border-2 shadow-[0_0_0_1px_rgb(0_0_0/0.5)] " + props.className} style={{ left: part(x0), top: part(y0), width: part(x1 - x0), height: part(y1 - y0) }}>
      <span className={"absolute left-0 whitespace-nowrap bg-ground px-1 text-xs leading-tight text-ink " + (props.face ? "bottom-full" : "top-0")}>{props.says}</span>
      {props.children}
    </div>
  );
}

// atLeast is a box that can be seen, also where it is a point.
const atLeast = (b: Box): Box => {
  const grow = (low: number, high: number): [number, number] => (high - low >= 0.02 ? [low, high] : [Math.max(0, (low + high) / 2 - 0.01), Math.min(1, (low + high) / 2 + 0.01)]);
  const [x0, x1] = grow(b.x0, b.x1);
  const [y0, y1] = grow(b.y0, b.y1);
  return { x0, y0, x1, y1 };
};

const sorted = (b: Box): Box => ({ x0: Math.min(b.x0, b.x1), y0: Math.min(b.y0, b.y1), x1: Math.max(b.x0, b.x1), y1: Math.max(b.y0, b.y1) });

// The words of a value, where what stands in parentheses is one.
const words = (value: string | undefined): string[] => (value ?? "").match(/[^\s(]+\([^)]*\)|\S+/g) ?? [];

// The box of x,y,width,height in pixels or percent, in parts of the picture's sides.
function boxOf(text: string, facts: Facts | undefined): Box | undefined {
  const [, percent, sides] = /^(percent:|pixel:)?([\d.]+(?:,[\d.]+){3})$/i.exec(text) ?? [];
  if (!sides) return undefined;
  const [x = 0, y = 0, w = 0, h = 0] = sides.split(",").map(Number);
  const inPercent = percent?.toLowerCase() === "percent:";
  if (!inPercent && !facts) return undefined;
  const width = inPercent ? 100 : facts!.width;
  const height = inPercent ? 100 : facts!.height;
  return { x0: x / width, y0: y / height, x1: Math.min(1, (x + w) / width), y1: Math.min(1, (y + h) / height) };
}
