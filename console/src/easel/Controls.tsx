import { useEffect, useId, useState } from "react";
import type { Facts } from "../api/client";
import { Choice } from "../parts/Choice";
import { Dial } from "../parts/Dial";
import { Pick } from "../parts/Pick";
import type { Declarations } from "./declarations";

const shapes = ["1", "4/3", "3/2", "16/9", "3/1", "3/4", "2/3", "9/16"];

// The declarations, each with the control that suits it. What isn't touched isn't declared.
export function Controls(props: { declared: Declarations; defaults: Declarations; facts: Facts | undefined; onChange: (d: Declarations) => void }) {
  const { declared: d, defaults, facts } = props;
  const change = (part: Declarations) => props.onChange({ ...d, ...part });
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
          <Choice
            label="Fit"
            value={d.fit ?? defaults.fit ?? "fill"}
            options={["cover", "contain", "fill"].map((v) => ({ value: v, text: v }))}
            onChange={(fit) => change({ fit: fit === defaults.fit ? undefined : fit })}
          />
        </div>
      </fieldset>
      <fieldset className="flex min-w-0 flex-col gap-3">
        <legend className="mb-2 font-semibold">Encoding</legend>
        <div className="flex items-center justify-between">
          <span>Format</span>
          <Choice
            label="Format"
            value={d.format ?? "auto"}
            options={["auto", "webp", "jpeg", "png"].map((v) => ({ value: v, text: v }))}
            onChange={(f) => change({ format: f === "auto" ? undefined : f, ...(f === "jpeg" && quality === "lossless" ? { quality: undefined } : {}) })}
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
            onChange={(v) => change(v === "lossless" ? { quality: "lossless", ...(d.format === "jpeg" ? { format: undefined } : {}) } : { quality: undefined })}
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
    </div>
  );
}

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
