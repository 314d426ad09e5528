import { useEffect, useId, useState } from "react";
import type { Facts } from "../api/client";
import { Choice } from "../parts/Choice";
import { Dial } from "../parts/Dial";
import { Pick } from "../parts/Pick";
import type { Declarations } from "./declarations";
import { keywords, lines } from "./language";
import { Lines } from "./Lines";
import { Paste } from "./Paste";
import { Section } from "./Section";

const shapes = ["1", "4/3", "3/2", "16/9", "3/1", "3/4", "2/3", "9/16"];

// The declarations, each with the control that suits it. What isn't touched isn't declared.
export function Controls(props: { declared: Declarations; defaults: Declarations; facts: Facts | undefined; onChange: (d: Declarations) => void }) {
  const { declared: d, defaults, facts } = props;
  const change = (part: Partial<Declarations>) => props.onChange({ ...d, ...part });
  const set = (name: string, value: string | undefined) => {
    const more = { ...d.more };
    if (value === undefined) delete more[name];
    else more[name] = value;
    change({ more });
  };
  const among = (names: string[]) => names.filter((n) => d.more[n] !== undefined).length;
  const position = d.more["object-position"] ?? "center";
  const widest = Math.min(facts?.width ?? 2400, 2400);
  const quality = d.quality ?? defaults.quality ?? "72";
  return (
    <div className="flex flex-col gap-5">
      <fieldset className="flex min-w-0 flex-col gap-3">
        <legend className="mb-2 font-semibold">Slot</legend>
        <Dial label="Width" unit="px" value={d.width} min={1} max={widest} most={65535} rest={widest} onChange={(width) => change({ width })} />
        <Dial
          label="Height"
          unit="px"
          value={d.height}
          min={1}
          max={Math.min(facts?.height ?? 2400, 2400)}
          most={65535}
          rest={Math.min(facts?.height ?? 2400, 2400)}
          onChange={(height) => change({ height })}
        />
        <Shape value={d.shape} both={d.width !== undefined && d.height !== undefined} onChange={(shape) => change({ shape })} />
        <div className="flex items-center justify-between">
          <span>Fit</span>
          <Pick
            label="Fit"
            value={d.fit ?? defaults.fit ?? "fill"}
            options={keywords["object-fit"].map((v) => ({ value: v, text: v }))}
            onChange={(fit) => change({ fit: fit === defaults.fit ? undefined : fit })}
          />
        </div>
        <div className="flex items-center justify-between">
          <span>Position</span>
          <Pick
            label="Position"
            value={position}
            options={(positions.includes(position) ? positions : [...positions, position]).map((v) => ({ value: v, text: v }))}
            onChange={(v) => set("object-position", v === "center" ? undefined : v)}
          />
        </div>
        <div className="flex items-center justify-between">
          <span>Density</span>
          <Choice
            label="Density"
            value={d.more["resolution"] ?? "1x"}
            options={["1x", "1.5x", "2x", "3x"].map((v) => ({ value: v, text: v }))}
            onChange={(v) => set("resolution", v === "1x" ? undefined : v)}
          />
        </div>
        <Lines lines={lines.geometry} values={d.more} onChange={set} />
      </fieldset>
      <Section title="Paste CSS" declared={0}>
        <Paste onTake={(t) => props.onChange({ ...d, ...Object.fromEntries(Object.entries(t).filter(([, v]) => v !== undefined)), more: { ...d.more, ...t.more } })} />
      </Section>
      <fieldset className="flex min-w-0 flex-col gap-3">
        <legend className="mb-2 font-semibold">Encoding</legend>
        <div className="flex items-center justify-between">
          <span>Format</span>
          <Pick
            label="Format"
            value={d.format ?? "auto"}
            options={["auto", ...keywords.format].map((v) => ({ value: v, text: v }))}
            onChange={(f) => change({ format: f === "auto" ? undefined : f, ...((f === "jpeg" || f === "gif") && quality === "lossless" ? { quality: undefined } : {}) })}
          />
        </div>
        <div className="flex items-center justify-between">
          <span>Loss</span>
          <Choice
            label="Loss"
            value={quality === "lossless" ? "lossless" : "visible"}
            options={[
              { value: "visible", text: "by quality" },
              { value: "lossless", text: "lossless" },
            ]}
            onChange={(v) => change(v === "lossless" ? { quality: "lossless", ...(d.format === "jpeg" || d.format === "gif" ? { format: undefined } : {}) } : { quality: undefined })}
          />
        </div>
        {quality !== "lossless" && (
          <Dial
            label="Quality"
            value={Number(quality)}
            min={1}
            max={100}
            rest={72}
            onChange={(q) => change({ quality: q === undefined || q.toString() === defaults.quality ? undefined : Math.round(q).toString() })}
          />
        )}
      </fieldset>
      <Section title="Bytes and facts" declared={among([...[...lines.encoding, ...lines.delivery].map((l) => l.name), "animation"])}>
        <Lines lines={[...lines.encoding, ...lines.delivery]} values={d.more} onChange={set} />
        <div className="flex items-center justify-between">
          <span>Frames</span>
          <Choice
            label="Frames"
            value={d.more["animation"] ?? "all"}
            options={[
              { value: "all", text: "all" },
              { value: "none", text: "the first" },
            ]}
            onChange={(v) => set("animation", v === "all" ? undefined : v)}
          />
        </div>
      </Section>
      <Section title="Part and turn" declared={among([...lines.region.map((l) => l.name), "scale", "rotate", "grow"])}>
        <Dial label="Turn" unit="deg" value={degrees(d.more["rotate"])} min={-180} max={180} rest={0} onChange={(v) => set("rotate", v ? `${v}deg` : undefined)} />
        <div className="flex items-center justify-between">
          <span>Mirror</span>
          <Choice
            label="Mirror"
            value={d.more["scale"] ?? "none"}
            options={[
              { value: "none", text: "none" },
              { value: "-1 1", text: "across" },
              { value: "1 -1", text: "down" },
              { value: "-1 -1", text: "both" },
            ]}
            onChange={(v) => set("scale", v === "none" ? undefined : v)}
          />
        </div>
        <div className="flex items-center justify-between">
          <span>Grow</span>
          <Choice label="Grow" value={d.more["grow"] ?? "no"} options={keywords.grow.map((v) => ({ value: v, text: v }))} onChange={(v) => set("grow", v === "no" ? undefined : v)} />
        </div>
        <Lines lines={lines.region} values={d.more} onChange={set} />
      </Section>
      <Section title="Paint" declared={among(lines.paint.map((l) => l.name))}>
        <Lines lines={lines.paint} values={d.more} onChange={set} />
      </Section>
      {layerSections.map(({ of, title }) => {
        const own = lines.layers.filter((l) => l.name.startsWith(of));
        const blend = of === "before-" ? "before-mix-blend-mode" : "after-mix-blend-mode";
        return (
          <Section key={of} title={title} declared={among([...own.map((l) => l.name), blend])}>
            <Lines lines={own} values={d.more} onChange={set} />
            <div className="flex items-center justify-between">
              <span>Blend</span>
              <Pick
                label="Blend"
                value={d.more[blend] ?? "normal"}
                options={keywords[blend].map((v) => ({ value: v, text: v }))}
                onChange={(v) => set(blend, v === "normal" ? undefined : v)}
              />
            </div>
          </Section>
        );
      })}
    </div>
  );
}

const layerSections = [
  { of: "before-", title: "Layer underneath" },
  { of: "after-", title: "Layer on top" },
];

// The degrees of an angle that is written in them.
function degrees(angle: string | undefined): number | undefined {
  const n = angle === undefined ? NaN : parseFloat(angle);
  return angle !== undefined && /deg$/i.test(angle) && Number.isFinite(n) ? n : undefined;
}

const positions = ["center", "subject", "faces", "detail", "top", "bottom", "left", "right", "left top", "right top", "left bottom", "right bottom"];

const written = /^\s*\d*\.?\d+\s*(\/\s*\d*\.?\d+\s*)?$/;

// The shape from a list, or written.
function Shape(props: { value: string | undefined; both: boolean; onChange: (v: string | undefined) => void }) {
  const id = useId();
  const [text, setText] = useState(props.value ?? "");
  useEffect(() => setText(props.value ?? ""), [props.value]);
  const listed = props.value === undefined ? "natural" : shapes.includes(props.value) ? props.value : "own";
  return (
    <div className="flex items-center justify-between gap-2">
      <label htmlFor={id}>Shape</label>
      <span className="flex gap-1">
        <Pick
          label="Shapes"
          value={listed}
          options={[{ value: "natural", text: "natural" }, ...shapes.map((s) => ({ value: s, text: s })), ...(listed === "own" ? [{ value: "own", text: "own" }] : [])]}
          onChange={(v) => v !== "own" && props.onChange(v === "natural" ? undefined : v)}
        />
        <input
          id={id}
          value={text}
          placeholder="1.91"
          title={props.both ? "With both sides given, CSS passes the shape over" : undefined}
          onChange={(e) => {
            setText(e.target.value);
            if (e.target.value.trim() === "") props.onChange(undefined);
            else if (written.test(e.target.value)) props.onChange(e.target.value.replaceAll(" ", ""));
          }}
          className="figures w-16 border border-edge bg-ground px-1.5 py-0.5 text-right placeholder:text-soft"
        />
      </span>
    </div>
  );
}
