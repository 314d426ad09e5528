// Sources over which render workers died: nothing new is made of them until they change or somebody clears them.
import { useQueries, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { listSetAside, readmit } from "../api/calls";
import { Button } from "../parts/Button";
import { whenText } from "../parts/figures";
import { Trouble } from "../parts/Trouble";
import { Wide } from "../parts/Wide";

export function SetAside({ sites }: { sites: string[] }) {
  const queries = useQueryClient();
  const lists = useQueries({ queries: sites.map((site) => ({ queryKey: ["set-aside", site], queryFn: ({ signal }: { signal: AbortSignal }) => listSetAside(site, signal), refetchInterval: 5000 })) });
  const [error, setError] = useState<Error>();
  const all = lists.flatMap((l) => l.data ?? []);
  if (all.length === 0) return error ? <Trouble error={error} /> : null;
  const clear = (site: string, digest: string) =>
    readmit(site, digest).then(
      () => queries.invalidateQueries({ queryKey: ["set-aside", site] }),
      (e: Error) => setError(e),
    );
  return (
    <section aria-label="Set aside" className="rounded border border-line p-3">
      <h2 className="font-semibold">Set aside</h2>
      <p className="mb-2 text-soft">Render workers died over these sources. Nothing new is made of them until the file is replaced, or cleared here to be tried again.</p>
      {error && <Trouble error={error} />}
      <Wide label="Sources set aside">
        <table className="w-full border-collapse text-left">
          <thead className="text-soft">
            <tr>
              <th className="py-1 pr-4 font-normal">source</th>
              <th className="py-1 pr-4 font-normal">how the last worker ended</th>
              <th className="py-1 pr-4 font-normal">asked</th>
              <th className="py-1 pr-4 font-normal">since</th>
              <th className="py-1 font-normal">
                <span className="sr-only">What to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {all.map((a) => (
              <tr key={a.site + a.digest} className="border-t border-line align-top">
                <td className="figures py-1.5 pr-4 break-all">
                  {a.site}/{a.lane}/{a.path}
                  <div className="text-xs text-soft">{a.digest.slice(0, 12)}</div>
                </td>
                <td className="py-1.5 pr-4">
                  {a.how}
                  {a.system_call !== undefined && `, for system call ${a.system_call}`}
                  {a.words && (
                    <div className="figures max-w-96 truncate text-xs text-soft" title={a.words}>
                      {a.words.trim().split("\n")[0]}
                    </div>
                  )}
                </td>
                <td className="figures max-w-72 py-1.5 pr-4 text-sm break-all">{a.asked}</td>
                <td className="py-1.5 pr-4 whitespace-nowrap">{whenText(a.at)}</td>
                <td className="py-1.5 text-right">
                  <Button onClick={() => clear(a.site, a.digest)}>Try it again</Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
