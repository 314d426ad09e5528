import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { rules as readRules } from "../api/calls";
import { Button } from "../parts/Button";
import { Trouble } from "../parts/Trouble";
import { readDeclarations, type Declarations } from "./declarations";
import { useSettled } from "./pictures";

// Style rules as they stand in a stylesheet: what becomes of every declaration, and a button that takes a rule over.
export function Paste(props: { onTake: (d: Declarations) => void }) {
  const id = useId();
  const [text, setText] = useState("");
  const asked = useSettled(text, 300);
  const read = useQuery({ queryKey: ["css", asked], queryFn: () => readRules({ text: asked }), enabled: asked.trim() !== "", placeholderData: (b) => b, retry: false });
  const rules = text.trim() === "" ? [] : (read.data?.rules ?? []);
  return (
    <>
      <label htmlFor={id} className="text-soft">
        A rule as it stands in a stylesheet
      </label>
      <textarea
        id={id}
        value={text}
        rows={5}
        spellCheck={false}
        placeholder={".hero img {\n  width: 20rem;\n  border-radius: 12px;\n}"}
        onChange={(e) => setText(e.target.value)}
        className="figures min-w-0 border border-edge bg-ground px-1.5 py-1 text-sm placeholder:text-soft"
      />
      {text.trim() !== "" && read.error && <Trouble error={read.error} />}
      {rules.map((r, n) => {
        const left = r.items.filter((i) => !i.taken);
        return (
          <div key={n} className="flex flex-col gap-1 border-t border-line pt-2">
            <div className="flex items-center justify-between gap-2">
              <span className="figures min-w-0 truncate text-sm">{[r.within, r.selector].filter(Boolean).join(" ") || "declarations"}</span>
              <Button disabled={r.query === ""} onClick={() => props.onTake(readDeclarations(new URLSearchParams(r.query)))}>
                Use {r.items.length - left.length} of {r.items.length}
              </Button>
            </div>
            {left.length > 0 && (
              <ul aria-label="Left out" className="flex flex-col gap-1 text-sm">
                {left.map((i, k) => (
                  <li key={k}>
                    <span className="figures">
                      {i.property}: {i.value}
                    </span>
                    <span className="block text-soft">{i.remedy}</span>
                  </li>
                ))}
              </ul>
            )}
          </div>
        );
      })}
    </>
  );
}
