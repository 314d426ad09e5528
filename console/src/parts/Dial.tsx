import { Slider } from "radix-ui";
import { useEffect, useId, useState, type ReactNode } from "react";

// A number that can be dragged or typed. Empty means that it isn't declared.
export function Dial(props: {
  label: string;
  unit?: string;
  value: number | undefined;
  min: number;
  max: number; // of the slider; more may be typed, up to most
  most?: number;
  rest: number; // where the slider stands while there is no value
  onChange: (value: number | undefined) => void;
  children?: ReactNode;
}) {
  const id = useId();
  const [text, setText] = useState(props.value?.toString() ?? "");
  useEffect(() => setText(props.value?.toString() ?? ""), [props.value]);
  const most = props.most ?? props.max;
  const take = (t: string) => {
    setText(t);
    if (t.trim() === "") return props.onChange(undefined);
    const n = Number(t);
    if (Number.isFinite(n) && n >= props.min && n <= most) props.onChange(n);
  };
  return (
    <div>
      <div className="flex items-baseline justify-between">
        <label htmlFor={id}>{props.label}</label>
        <span className="flex items-baseline gap-1">
          {props.children}
          <input
            id={id}
            inputMode="numeric"
            value={text}
            placeholder="auto"
            onChange={(e) => take(e.target.value)}
            onBlur={() => setText(props.value?.toString() ?? "")}
            className="figures w-16 border border-edge bg-ground px-1.5 py-0.5 text-right placeholder:text-soft"
          />
          <span className="w-5 text-soft">{props.unit}</span>
        </span>
      </div>
      <Slider.Root
        value={[Math.min(props.value ?? props.rest, props.max)]}
        min={props.min}
        max={props.max}
        onValueChange={([v]) => props.onChange(v)}
        className="relative mt-1.5 flex h-6 touch-none items-center select-none"
      >
        <Slider.Track className="relative h-0.5 grow bg-edge">
          <Slider.Range className="absolute h-full bg-accent" />
        </Slider.Track>
        <Slider.Thumb aria-label={props.label} className="block h-5 w-2.5 border border-accent bg-accent" />
      </Slider.Root>
    </div>
  );
}
