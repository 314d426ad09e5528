// Refusals: what was turned down, the most frequent first, each with its remedy at hand.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { forgetRefusal, listRefusals, mend } from "../api/calls";
import { type Refusal } from "../api/client";
import { addressOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Changes } from "../parts/Changes";
import { whenText } from "../parts/figures";
import { SitePick, useSites } from "../parts/SitePick";
import { Trouble } from "../parts/Trouble";
import { Window } from "../parts/Window";
import { SetAside } from "./SetAside";
import { Wide } from "../parts/Wide";

export function Refusals() {
  const address = useAddress();
  const site = address.parts[0] ?? "";
  const queries = useQueryClient();
  const sites = useSites();
  const list = useQuery({ queryKey: ["refusals", site], queryFn: ({ signal }) => listRefusals(site, signal), refetchInterval: 5000 });
  const [mending, setMending] = useState<Refusal>();
  const [error, setError] = useState<Error>();
  return (
    <div className="flex flex-col gap-3 overflow-y-auto p-4">
      <div className="flex items-center gap-3">
        <h1 className="flex-1 text-lg font-semibold">Refusals</h1>
        <SitePick site={site} all onChange={(v) => go(addressOf("refusals", v ? [v] : []))} />
      </div>
      {(list.error ?? error) && <Trouble error={(list.error ?? error)!} />}
      <SetAside sites={site ? [site] : (sites.data ?? []).map((s) => s.name)} />
      {list.data?.length === 0 && <p className="text-soft">No refusals yet. When a rule or a limit refuses a request, it is listed here with what to do about it.</p>}
      {list.data && list.data.length > 0 && (
        <Wide label="Refusals">
          <table className="w-full border-collapse text-left">
            <thead className="text-soft">
              <tr>
                <th className="py-1 pr-4 text-right font-normal">times</th>
                <th className="py-1 pr-4 font-normal">reason</th>
                <th className="py-1 pr-4 font-normal">asked</th>
                <th className="py-1 pr-4 font-normal">way out</th>
                <th className="py-1 pr-4 font-normal">last</th>
                <th className="py-1 font-normal">
                  <span className="sr-only">What to do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {list.data.map((r) => (
                <tr key={r.id} className="border-t border-line align-top">
                  <td className="figures py-1.5 pr-4 text-right">{r.count}</td>
                  <td className="py-1.5 pr-4">
                    {r.title || r.reason}
                    <div className="text-xs text-soft">{r.site || "no site"}</div>
                  </td>
                  <td className="figures max-w-72 py-1.5 pr-4 text-sm break-all">
                    {r.asked}
                    <div className="mt-0.5 truncate text-xs text-soft" title={r.sample}>
                      {r.sample}
                    </div>
                  </td>
                  <td className="max-w-96 py-1.5 pr-4 text-sm">
                    {r.detail}
                    <div className="figures mt-0.5 text-xs break-words">{r.remedy}</div>
                  </td>
                  <td className="figures py-1.5 pr-4 text-sm whitespace-nowrap">{whenText(r.last_at)}</td>
                  <td className="flex gap-2 py-1.5">
                    {r.command && <Button onClick={() => setMending(r)}>Mend…</Button>}
                    <Button onClick={() => forgetRefusal(r.id).then(() => queries.invalidateQueries({ queryKey: ["refusals"] }), setError)}>Forget</Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {mending && <Mending refusal={mending} onClose={() => setMending(undefined)} />}
    </div>
  );
}

function Mending({ refusal, onClose }: { refusal: Refusal; onClose: () => void }) {
  const queries = useQueryClient();
  const would = useQuery({ queryKey: ["mend", refusal.id], queryFn: () => mend(refusal.id, true, false, "*"), gcTime: 0 });
  const [error, setError] = useState<Error>();
  const shutsOut = would.data?.shuts_out;
  return (
    <Window title={`Change ${refusal.site}?`} open onClose={onClose}>
      {would.data && <Changes changes={would.data.changes} warnings={would.data.warnings} />}
      {shutsOut && <p role="alert">{shutsOut}</p>}
      {(would.error ?? error) && <Trouble error={(would.error ?? error)!} />}
      <p className="text-soft">
        The same in a terminal: <code className="figures text-ink">{refusal.command}</code>
      </p>
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Leave it</Button>
        <Button kind="main" disabled={!would.data} onClick={() => mend(refusal.id, false, !!shutsOut, "*").then(() => (onClose(), queries.invalidateQueries()), setError)}>
          {shutsOut ? "Make it the only one" : "Make this change"}
        </Button>
      </div>
    </Window>
  );
}
