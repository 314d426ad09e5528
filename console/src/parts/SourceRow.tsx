import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { pageOfSources } from "../api/client";
import { imageAddress } from "../easel/declarations";
import { Patient } from "./Patient";
import { Pick } from "./Pick";
import { Trouble } from "./Trouble";

// A lane's first sources in a row, to pick some from. What is picked is lane/path.
export function SourceRow(props: { site: string; lanes: string[]; picked: string[]; onPick: (sources: string[]) => void }) {
  const [chosen, setLane] = useState<string>();
  const lane = chosen ?? props.picked[0]?.split("/")[0] ?? props.lanes[0] ?? "";
  const list = useQuery({ queryKey: ["first-sources", props.site, lane], queryFn: ({ signal }) => pageOfSources(props.site, lane, "", signal), enabled: lane !== "" });
  const toggle = (source: string) => props.onPick(props.picked.includes(source) ? props.picked.filter((s) => s !== source) : [...props.picked, source]);
  return (
    <div className="flex min-w-0 flex-col gap-2">
      {props.lanes.length > 1 && <Pick label="Lane" value={lane} options={props.lanes.map((l) => ({ value: l, text: l }))} onChange={setLane} />}
      {list.error && <Trouble error={list.error} />}
      {list.data?.items.length === 0 && <p className="text-soft">No sources are known in this lane yet.</p>}
      <ul aria-label="Sources to pick from" className="flex gap-2 overflow-x-auto p-0.5 pb-2">
        {list.data?.items.map((s) => {
          const source = `${lane}/${s.path}`;
          return (
            <li key={s.path} className="shrink-0">
              <button type="button" aria-label={source} title={source} aria-pressed={props.picked.includes(source)} onClick={() => toggle(source)} className="block border-2 border-transparent aria-pressed:border-accent">
                <Patient src={imageAddress(props.site, lane, s.path, { width: 208, shape: "4/3", fit: "cover", more: { "object-position": "subject" } })} alt="" width={80} height={60} loading="lazy" className="aspect-[4/3] w-20 bg-panel object-cover" />
              </button>
            </li>
          );
        })}
      </ul>
    </div>
  );
}
