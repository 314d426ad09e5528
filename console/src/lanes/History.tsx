import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { listHistory, proposeRestore, restore } from "../api/calls";
import { type Proposal, type Site } from "../api/client";
import { Button } from "../parts/Button";
import { Changes } from "../parts/Changes";
import { whenText } from "../parts/figures";
import { Trouble } from "../parts/Trouble";
import { Window } from "../parts/Window";

// Who changed what; any version can be had back.
export function History({ site }: { site: Site }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["history", site.name, site.version], queryFn: ({ signal }) => listHistory(site.name, signal) });
  const [back, setBack] = useState<{ version: number; proposal: Proposal }>();
  const [error, setError] = useState<Error>();
  return (
    <section aria-label="History">
      <h2 className="mb-2 font-semibold">History</h2>
      {(list.error ?? error) && <Trouble error={(list.error ?? error)!} />}
      <table className="w-full max-w-5xl text-left">
        <tbody>
          {list.data?.map((c) => (
            <tr key={c.version} className="border-t border-line align-top">
              <td className="figures py-1 pr-4 text-right">{c.version}</td>
              <td className="figures py-1 pr-4 text-sm whitespace-nowrap">{whenText(c.at)}</td>
              <td className="py-1 pr-4 whitespace-nowrap">{c.by}</td>
              <td className="py-1 pr-4 text-sm break-words">{c.what}</td>
              <td className="py-1 text-right">
                {c.version !== site.version && (
                  <Button onClick={() => proposeRestore(site.name, { version: c.version }).then((proposal) => setBack({ version: c.version, proposal }), setError)}>Restore…</Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Window title={`Go back to version ${back?.version}?`} open={back !== undefined} onClose={() => setBack(undefined)}>
        {back && <Changes changes={back.proposal.changes} warnings={back.proposal.warnings} />}
        <p className="text-soft">It becomes a new version, so nothing is lost.</p>
        <div className="flex justify-end gap-2">
          <Button onClick={() => setBack(undefined)}>Stay</Button>
          <Button kind="main" onClick={() => back && restore(site.name, { version: back.version }, site.version).then(() => (setBack(undefined), queries.invalidateQueries()), setError)}>
            Go back
          </Button>
        </div>
      </Window>
    </section>
  );
}
