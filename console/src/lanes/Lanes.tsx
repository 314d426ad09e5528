// Lanes: where a site's images come from, and its rules, limits and ladder. Changes are drafted here, shown in
// full, and then made all at once.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { addSite, listSites, proposePutSite, putSite, removeSite } from "../api/calls";
import { type Document, type Proposal, type Site } from "../api/client";
import { addressOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Changes, Warnings } from "../parts/Changes";
import { Field } from "../parts/Field";
import { Trouble } from "../parts/Trouble";
import { Destroy, Window } from "../parts/Window";
import { History } from "./History";
import { LaneList } from "./LaneList";
import { Rules } from "./Rules";

export function Lanes() {
  const address = useAddress();
  const sites = useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => listSites(signal) });
  const name = address.parts[0];
  const first = sites.data?.[0]?.name;
  useEffect(() => {
    if (!name && first) go(addressOf("lanes", [first]), true);
  }, [name, first]);
  if (sites.error) return <div className="m-auto p-8"><Trouble error={sites.error} /></div>;
  if (!sites.data) return <p className="m-auto p-8">Loading…</p>;
  const site = sites.data.find((s) => s.name === name);
  return (
    <div className="flex min-h-0 flex-1 flex-col lg:grid lg:grid-cols-[13rem_minmax(0,1fr)]">
      <aside aria-label="Sites" className="flex flex-col gap-3 border-line p-3 max-lg:border-b lg:border-r">
        <h2 className="font-semibold">Sites</h2>
        <ul className="flex flex-col gap-1">
          {sites.data.map((s) => (
            <li key={s.name}>
              <button
                type="button"
                aria-current={s.name === name ? "page" : undefined}
                onClick={() => go(addressOf("lanes", [s.name]))}
                className="w-full px-2 py-1 text-left hover:bg-panel aria-[current]:bg-accent aria-[current]:text-on-accent"
              >
                {s.name}
              </button>
            </li>
          ))}
        </ul>
        <NewSite />
      </aside>
      {site ? <OneSite key={site.name} site={site} /> : <p className="m-auto p-8">{sites.data.length ? "Pick a site." : "There is no site yet. Name the first one on the left."}</p>}
    </div>
  );
}

function NewSite() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [error, setError] = useState<Error>();
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        addSite({ site: name } as Document).then(async (s) => {
          setName("");
          setError(undefined);
          await queries.invalidateQueries({ queryKey: ["sites"] });
          go(addressOf("lanes", [s.name]));
        }, setError);
      }}
    >
      <Field label="Another site" value={name} onChange={setName} placeholder="archive" />
      <Button type="submit">Add</Button>
      {error && <Trouble error={error} />}
    </form>
  );
}

function OneSite({ site }: { site: Site }) {
  const queries = useQueryClient();
  const [draft, setDraft] = useState<{ document: Document; from: number }>({ document: site.document, from: site.version });
  const [proposal, setProposal] = useState<Proposal>();
  const [error, setError] = useState<Error>();
  const dirty = JSON.stringify(draft.document) !== JSON.stringify(site.document);
  // Somebody else's change comes in as long as nothing is drafted here.
  useEffect(() => {
    setDraft((d) => (d.from === site.version ? d : JSON.stringify(d.document) === JSON.stringify(site.document) || !dirty ? { document: site.document, from: site.version } : d));
  }, [site]);
  const change = (part: Partial<Document>) => setDraft((d) => ({ ...d, document: { ...d.document, ...part } }));
  const reset = () => (setDraft({ document: site.document, from: site.version }), setError(undefined));
  const review = () => proposePutSite(site.name, draft.document).then((p) => (setProposal(p), setError(undefined)), setError);
  const save = () =>
    putSite(site.name, draft.document, draft.from).then(async (s) => {
      setProposal(undefined);
      setDraft({ document: s.document, from: s.version });
      await queries.invalidateQueries();
    }, (e: Error) => (setProposal(undefined), setError(e)));
  return (
    <div className="flex min-h-0 flex-col">
      <div className="flex flex-wrap items-center gap-3 border-b border-line px-4 py-2">
        <h1 className="text-lg font-semibold">{site.name}</h1>
        <span className="figures text-sm text-soft">version {site.version}</span>
        <span className="flex-1" />
        {dirty && <Button onClick={reset}>Undo</Button>}
        <Button kind="main" disabled={!dirty} onClick={review}>
          Review changes…
        </Button>
        <Destroy
          what="Remove site"
          question={`Remove ${site.name}?`}
          detail={`Its ${site.document.lanes.length} lanes and ${site.secrets.length} secrets go, and its images stop being served at once. Sources stay where they are; the history stays too.`}
          onSure={() => removeSite(site.name, site.version).then(() => (go(addressOf("lanes")), queries.invalidateQueries()))}
        />
      </div>
      <div className="flex min-h-0 flex-1 flex-col gap-6 overflow-y-auto p-4">
        {error && <Trouble error={error} />}
        <Warnings warnings={site.warnings} />
        <LaneList site={site} document={draft.document} onChange={change} />
        <Rules site={site.name} document={draft.document} onChange={change} />
        <History site={site} />
      </div>
      <Window title={`Change ${site.name}?`} open={proposal !== undefined} onClose={() => setProposal(undefined)}>
        {proposal && <Changes changes={proposal.changes} warnings={proposal.warnings} />}
        <p className="text-soft">In force on every node within a second.</p>
        <div className="flex justify-end gap-2">
          <Button onClick={() => setProposal(undefined)}>Back to the draft</Button>
          <Button kind="main" onClick={save}>
            Make these changes
          </Button>
        </div>
      </Window>
    </div>
  );
}
