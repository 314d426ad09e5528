// Pages: weigh-ins of real pages, before and after.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { getWeighing, listSites, stopWeighing, weigh, weighingShotAddress } from "../api/calls";
import { latestWeighings } from "../api/client";
import { addressOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Field, ListField } from "../parts/Field";
import { whenText } from "../parts/figures";
import { Pick } from "../parts/Pick";
import { Trouble } from "../parts/Trouble";
import { Weighed } from "./Weighed";

export function Pages() {
  const address = useAddress();
  const [site, id] = address.parts;
  const sites = useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => listSites(signal) });
  useEffect(() => {
    const first = sites.data?.[0];
    if (!site && first) go(addressOf("pages", [first.name]), true);
  }, [site, sites.data]);
  // What was weighed last is something to see.
  const list = useQuery({ queryKey: ["weighings", site], queryFn: ({ signal }) => latestWeighings(site!, signal), enabled: site !== undefined });
  const latest = list.data?.[0]?.id;
  useEffect(() => {
    if (site && !id && latest !== undefined) go(addressOf("pages", [site, String(latest)]), true);
  }, [site, id, latest]);
  if (sites.error) return <div className="p-4"><Trouble error={sites.error} /></div>;
  if (sites.data?.length === 0) return <p className="m-auto p-8">There is no site yet. Add one in Lanes.</p>;
  if (!site) return null;
  return (
    <div className="flex min-h-0 flex-1 flex-col lg:grid lg:grid-cols-[18rem_minmax(0,1fr)]">
      <aside aria-label="Weigh-ins" className="flex min-h-0 flex-col gap-3 overflow-y-auto border-line p-3 max-lg:border-b lg:border-r">
        <div className="flex items-center gap-3">
          <h1 className="text-lg font-semibold">Pages</h1>
          <Pick label="Site" value={site} options={(sites.data ?? []).map((s) => ({ value: s.name, text: s.name }))} onChange={(v) => go(addressOf("pages", [v]))} />
        </div>
        <Begin site={site} pages={[...new Set([...(list.data ?? []).map((w) => w.page), ...origins(sites.data?.find((s) => s.name === site)?.document.pages.allow ?? [])])].slice(0, 6)} />
        <List site={site} id={id} />
      </aside>
      {id ? <One key={id} site={site} id={Number(id)} beside={address.query.get("beside")} /> : <p className="m-auto max-w-md p-8 text-soft">Weigh a page: it is opened on a phone, a tablet and a desktop, and every picture is made to fit its place, to see what it could weigh.</p>}
    </div>
  );
}

// origins are the pages of a site's rules that can be opened as they stand.
const origins = (allow: string[]) => allow.filter((a) => /^https?:\/\/[^*?]+$/.test(a)).map((a) => (/^https?:\/\/[^/]+$/.test(a) ? a + "/" : a));

function Begin({ site, pages }: { site: string; pages: string[] }) {
  const queries = useQueryClient();
  const [page, setPage] = useState("");
  const [maps, setMaps] = useState<string[]>([]);
  const [fix, setFix] = useState(false);
  const [loads, setLoads] = useState(true);
  const [error, setError] = useState<Error>();
  const begin = () => {
    const read = maps.map((m) => ({ from: m.slice(0, m.lastIndexOf("=")).trim(), to: m.slice(m.lastIndexOf("=") + 1).trim() }));
    weigh(site, { page, fix, maps: read, loads: loads ? 3 : 0 }).then((w) => (setError(undefined), queries.invalidateQueries({ queryKey: ["weighings", site] }), go(addressOf("pages", [site, String(w.id)]))), setError);
  };
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        begin();
      }}
    >
      <Field label="Page" value={page} onChange={setPage} placeholder="https://shop.example.test/" required />
      {pages.length > 0 && (
        <ul aria-label="Pages to pick from" className="flex flex-col items-start gap-1">
          {pages.map((p) => (
            <li key={p} className="max-w-full">
              <button type="button" aria-pressed={p === page} onClick={() => setPage(p)} className="max-w-full truncate border border-edge px-1.5 py-0.5 text-sm aria-pressed:border-accent aria-pressed:text-accent">
                {p}
              </button>
            </li>
          ))}
        </ul>
      )}
      <details>
        <summary>More</summary>
        <div className="mt-2 flex flex-col gap-2">
          <ListField label="Where its pictures lie too" value={maps} onChange={setMaps} hint="URL=lane, one a line: https://shop.example.test/pictures/=catalogue" />
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={fix} onChange={(e) => setFix(e.target.checked)} className="accent-(--color-accent)" />
            rewrite it, and weigh that
          </label>
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={loads} onChange={(e) => setLoads(e.target.checked)} className="accent-(--color-accent)" />
            load it over slow lines, three times each
          </label>
        </div>
      </details>
      <div>
        <Button kind="main" type="submit">
          Weigh
        </Button>
      </div>
      {error && <Trouble error={error} />}
    </form>
  );
}

function List({ site, id }: { site: string; id: string | undefined }) {
  const list = useQuery({
    queryKey: ["weighings", site],
    queryFn: ({ signal }) => latestWeighings(site, signal),
    refetchInterval: (q) => (q.state.data?.some((w) => w.state === "running") ? 1000 : false),
  });
  if (list.error) return <Trouble error={list.error} />;
  if (list.data?.length === 0) return <p className="text-soft">No page was weighed yet.</p>;
  return (
    <ul className="flex flex-col">
      {list.data?.map((w) => (
        <li key={w.id} className="border-t border-line">
          <a
            href={addressOf("pages", [site, String(w.id)])}
            aria-current={String(w.id) === id ? "page" : undefined}
            onClick={(e) => {
              if (e.metaKey || e.ctrlKey || e.shiftKey) return;
              e.preventDefault();
              go(addressOf("pages", [site, String(w.id)]));
            }}
            className="flex gap-2 py-1.5 break-all aria-[current]:text-accent"
          >
            <Thumb address={w.state === "done" ? weighingShotAddress(site, w.id, 1) : ""} />
            <span className="min-w-0">
              {w.page}
              <span className="figures block text-xs text-soft">
                {whenText(w.begun_at)} {w.state !== "done" && w.state}
              </span>
            </span>
          </a>
        </li>
      ))}
    </ul>
  );
}

// Thumb is what a page looked like, or the room for it: pages that were weighed without a browser have no picture.
function Thumb({ address }: { address: string }) {
  const [gone, setGone] = useState(false);
  if (!address || gone) return <span aria-hidden className="block h-13 w-10 shrink-0 bg-panel" />;
  return <img src={address} alt="" loading="lazy" onError={() => setGone(true)} className="block h-13 w-10 shrink-0 border border-line object-cover object-top" />;
}

function Progress({ done, of }: { done: number; of: number }) {
  return (
    <div role="progressbar" aria-label="Progress" aria-valuemin={0} aria-valuemax={of || undefined} aria-valuenow={of ? done : undefined} className="mt-1 h-2 w-full border border-edge">
      <div className="h-full bg-accent" style={{ width: `${of ? (100 * done) / of : 0}%` }} />
    </div>
  );
}

function One(props: { site: string; id: number; beside: string | null }) {
  const queries = useQueryClient();
  const one = useQuery({
    queryKey: ["weighing", props.site, props.id],
    queryFn: ({ signal }) => getWeighing(props.site, props.id, signal),
    refetchInterval: (q) => (q.state.data?.state === "running" ? 600 : false),
  });
  const other = useQuery({ queryKey: ["weighing", props.site, Number(props.beside)], queryFn: ({ signal }) => getWeighing(props.site, Number(props.beside), signal), enabled: props.beside !== null });
  const others = useQuery({ queryKey: ["weighings", props.site], queryFn: ({ signal }) => latestWeighings(props.site, signal) });
  const w = one.data;
  useEffect(() => {
    if (w && w.state !== "running") void queries.invalidateQueries({ queryKey: ["weighings", props.site] });
  }, [w?.state]);
  if (one.error) return <div className="p-4"><Trouble error={one.error} /></div>;
  if (!w) return <p className="p-4">Loading…</p>;
  const forget = async () => {
    await stopWeighing(props.site, w.id);
    void queries.invalidateQueries({ queryKey: ["weighings", props.site] });
    if (w.state === "running") void one.refetch();
    else go(addressOf("pages", [props.site]));
  };
  return (
    <div className="flex min-w-0 flex-col gap-4 overflow-y-auto p-4">
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 className="text-lg font-semibold break-all">{w.page}</h2>
        <span className="figures text-sm text-soft">
          {whenText(w.begun_at)}, by {w.by}
        </span>
        <span className="ml-auto flex gap-2">
          {w.state === "done" && others.data && others.data.length > 1 && (
            <Pick
              label="Beside"
              value={props.beside ?? "none"}
              options={[{ value: "none", text: "beside no other" }, ...others.data.filter((o) => o.id !== w.id && o.state === "done").map((o) => ({ value: String(o.id), text: `beside ${whenText(o.begun_at)} ${o.page}` }))]}
              onChange={(v) => go(addressOf("pages", [props.site, String(w.id)], v === "none" ? undefined : new URLSearchParams({ beside: v })))}
            />
          )}
          <Button kind="danger" onClick={forget}>
            {w.state === "running" ? "Stop" : "Forget"}
          </Button>
        </span>
      </div>
      {w.state === "running" && (
        <div role="status" className="max-w-md">
          <p>{w.doing || "beginning"}…</p>
          <Progress done={w.done} of={w.of} />
        </div>
      )}
      {w.state === "failed" && <p className="border-l-2 border-trouble pl-3">It wasn't weighed: {w.trouble}</p>}
      {w.state === "stopped" && <p>It was stopped.</p>}
      {w.report && <Weighed site={props.site} id={w.id} report={w.report} after={w.after ?? undefined} fixed={w.fixed ?? undefined} beside={other.data?.report ?? undefined} />}
    </div>
  );
}
