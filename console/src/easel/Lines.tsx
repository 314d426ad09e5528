import { useId } from "react";
import { Pick } from "../parts/Pick";
import type { Line } from "./language";

// Declarations that are written as CSS has them, a line each.
export function Lines(props: { lines: Line[]; values: Record<string, string>; onChange: (name: string, value: string | undefined) => void }) {
  const id = useId();
  return (
    <div className="grid grid-cols-[auto_minmax(0,1fr)] items-center gap-x-3 gap-y-1.5">
      {props.lines.map((l) => (
        <div key={l.name} className="contents">
          <label htmlFor={id + l.name}>{l.label}</label>
          {l.keywords ? (
            <span className="justify-self-end">
              <Pick
                label={l.label}
                value={props.values[l.name] ?? l.initial ?? l.keywords[0]!}
                options={l.keywords.map((v) => ({ value: v, text: v }))}
                onChange={(v) => props.onChange(l.name, v === l.initial ? undefined : v)}
              />
            </span>
          ) : (
          <input
            id={id + l.name}
            name={l.name}
            title={l.name}
            value={props.values[l.name] ?? ""}
            placeholder={l.example}
            spellCheck={false}
            autoComplete="off"
            onChange={(e) => props.onChange(l.name, e.target.value === "" ? undefined : e.target.value)}
            className="figures min-w-0 border border-edge bg-ground px-1.5 py-0.5 placeholder:text-soft"
          />
          )}
        </div>
      ))}
    </div>
  );
}
