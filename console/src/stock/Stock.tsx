// Stock: what is kept, how often it is asked for, and how it is forgotten or made ahead.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { getStock, getStockOfAll, getStockVariants, listPurges, purge } from "../api/calls";
import { Problem, type Schemas } from "../api/client";
import { addressOf, elementsOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { bytesText, countText, manyText, savedText, whenText } from "../parts/figures";
import { Figure } from "../parts/Figure";
import { Link } from "../parts/Link";
import { SitePick, useSites } from "../parts/SitePick";
import { Trouble } from "../parts/Trouble";
import { Window } from "../parts/Window";
import { Warmings } from "./Warmings";
import { Wide } from "../parts/Wide";

type By = "lane" | "source" | "format";
type Order = "largest" | "coldest" | "most-asked" | "newest";

export function Stock() {
  const address = useAddress();
  const sites = useSites();
  const name = address.parts[0];
  const first = sites.data?.[0]?.name;
  const [by, setBy] = useState<"site" | "format">("site");
  const all = useQuery({ queryKey: ["stock", by], queryFn: ({ signal }) => getStockOfAll(by, 200, signal), enabled: !name, refetchInterval: 30_000, placeholderData: (b) => b });
  // Who may look at some sites only begins with the first of them.
  const shut = !name && all.error instanceof Problem && all.error.details.reason === "not-permitted";
  useEffect(() => {
    if (shut && first) go(addressOf("stock", [first]), true);
  }, [shut, first]);
  if (sites.error) return <div className="m-auto p-8"><Trouble error={sites.error} /></div>;
  if (!sites.data) return <p className="m-auto p-8">Loading…</p>;
  const site = sites.data.find((s) => s.name === name);
  return (
    <div className="flex flex-col gap-4 overflow-y-auto p-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="flex-1 text-lg font-semibold">Stock</h1>
        <SitePick site={name ?? ""} all onChange={(v) => go(addressOf("stock", v ? [v] : []))} />
      </div>
      {site ? (
        <OneSite key={site.name} site={site} />
      ) : name ? (
        <p>There is no site {name}.</p>
      ) : (
        <>
          {all.error && !shut && <Trouble error={all.error} />}
          {all.data && <Sums stock={all.data} />}
          {all.data && (
            <section aria-label="Kept variants" className="flex flex-col gap-2">
              <div className="flex flex-wrap items-center gap-3">
                <h2 className="flex-1 font-semibold">Kept variants</h2>
                <Choice
                  label="Grouped by"
                  value={by}
                  options={[
                    { value: "site", text: "Sites" },
                    { value: "format", text: "Formats" },
                  ]}
                  onChange={setBy}
                />
              </div>
              <Groups site="" stock={all.data} />
            </section>
          )}
          {sites.data.length === 0 && <p>There is no site yet: add one under Lanes.</p>}
        </>
      )}
    </div>
  );
}

function OneSite({ site }: { site: Schemas["Site"] }) {
  const address = useAddress();
  const [by, setBy] = useState<By>("lane");
  const lane = address.parts[1] ?? "";
  const path = address.parts.slice(2).join("/");
  const stock = useQuery({ queryKey: ["stock", site.name, by], queryFn: ({ signal }) => getStock(site.name, by, 200, signal), refetchInterval: 30_000, placeholderData: (b) => b });
  const s = stock.data;
  return (
    <>
      {stock.error && <Trouble error={stock.error} />}
      {s && <Sums stock={s} />}
      <section aria-label="Kept variants" className="flex flex-col gap-2">
        <div className="flex flex-wrap items-center gap-3">
          <h2 className="flex-1 font-semibold">Kept variants</h2>
          {!lane && (
            <Choice
              label="Grouped by"
              value={by}
              options={[
                { value: "lane", text: "Lanes" },
                { value: "source", text: "Sources" },
                { value: "format", text: "Formats" },
              ]}
              onChange={setBy}
            />
          )}
          {!lane && <Purge site={site.name} lane="" path="" label="Purge the site" />}
        </div>
        {lane ? <Variants site={site.name} lane={lane} path={path} /> : s && <Groups site={site.name} stock={s} />}
      </section>
      <Warmings site={site} />
      <Purges site={site.name} />
    </>
  );
}

function Sums({ stock: s }: { stock: Schemas["Stock"] }) {
  return (
    <dl className="grid grid-cols-2 gap-px border border-line bg-line lg:grid-cols-4">
      <Figure name="Kept" value={bytesText(s.bytes)} more={`${manyText(s.variants, "variant")} of ${manyText(s.sources, "source")}, ${bytesText(s.source_bytes)}`} />
      <Figure name="Asked for" value={`${countText(s.asked)} ×`} more={s.used_at ? `last ${whenText(s.used_at)}` : "never yet"} />
      <Figure name="Went out" value={bytesText(s.served_bytes)} more={s.unscaled_bytes > 0 ? `instead of ${bytesText(s.unscaled_bytes)}: ${savedText(s.unscaled_bytes, s.served_bytes)}` : ""} />
      <Figure name="Time to make" value={`${(s.render_ms / 1000).toFixed(1)} s`} more="over all that is kept" />
    </dl>
  );
}

const head = "py-1 pr-4 font-normal whitespace-nowrap";
const cell = "figures py-1 pr-4";

function Groups({ site, stock }: { site: string; stock: Schemas["Stock"] }) {
  if (stock.groups.length === 0) return <p className="text-soft">Nothing is kept yet. What is asked for is kept; or make some ahead below.</p>;
  return (
    <Wide label="Groups">
      <table className="w-full border-collapse text-left">
        <thead className="text-soft">
          <tr>
            <th className={head}>{stock.by}</th>
            {["variants", ...(stock.by === "source" ? [] : ["sources"]), "kept", "asked", "went out", "saved"].map((h) => (
              <th key={h} className={head + " text-right"}>
                {h}
              </th>
            ))}
            <th className={head}>last asked</th>
            <th className={head}>
              <span className="sr-only">What to do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {stock.groups.map((g) => {
            const whole = stock.by === "site" || stock.by === "format";
            const [lane = "", ...path] = whole ? [] : g.name.slice(site.length + 1).split("/");
            const to = stock.by === "format" ? undefined : stock.by === "site" ? addressOf("stock", [g.name]) : addressOf("stock", [site, lane, ...(path.length ? elementsOf(path.join("/")) : [])]);
            return (
              <tr key={g.name} className="border-t border-line">
                <td className={cell + " min-w-44 [overflow-wrap:anywhere]"}>{to ? <Link className="text-accent underline" href={to}>{whole ? g.name : g.name.slice(site.length + 1)}</Link> : g.name}</td>
                <td className={cell + " text-right"}>{countText(g.variants)}</td>
                {stock.by !== "source" && <td className={cell + " text-right"}>{countText(g.sources)}</td>}
                <td className={cell + " text-right whitespace-nowrap"}>{bytesText(g.bytes)}</td>
                <td className={cell + " text-right"}>{countText(g.asked)}</td>
                <td className={cell + " text-right whitespace-nowrap"}>{bytesText(g.served_bytes)}</td>
                <td className={cell + " text-right whitespace-nowrap"}>{g.unscaled_bytes > 0 ? savedText(g.unscaled_bytes, g.served_bytes) : "–"}</td>
                <td className={cell + " whitespace-nowrap"}>{g.used_at ? whenText(g.used_at) : ""}</td>
                <td className="py-1 text-right">{to && !whole && <Purge site={site} lane={lane} path={path.join("/")} label="Purge" />}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Wide>
  );
}

function Variants({ site, lane, path }: { site: string; lane: string; path: string }) {
  const [order, setOrder] = useState<Order>("largest");
  const [count, setCount] = useState(50);
  const list = useQuery({ queryKey: ["variants", site, lane, path, order, count], queryFn: ({ signal }) => getStockVariants(site, lane, path, order, count, 0, signal), refetchInterval: 30_000, placeholderData: (b) => b });
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <p className="figures flex-1 break-all">
          <Link className="text-accent underline" href={addressOf("stock", [site])}>
            {site}
          </Link>
          /
          {path ? (
            <Link className="text-accent underline" href={addressOf("stock", [site, lane])}>
              {lane}
            </Link>
          ) : (
            lane
          )}
          {path && "/" + path}
        </p>
        <Choice
          label="Order"
          value={order}
          options={[
            { value: "largest", text: "Largest" },
            { value: "coldest", text: "Coldest" },
            { value: "most-asked", text: "Most asked" },
            { value: "newest", text: "Newest" },
          ]}
          onChange={setOrder}
        />
        <Purge site={site} lane={lane} path={path} label={path ? "Purge the source" : "Purge the lane"} />
      </div>
      {list.error && <Trouble error={list.error} />}
      {list.data?.items.length === 0 && <p className="text-soft">Nothing of it is kept yet.</p>}
      {list.data && list.data.items.length > 0 && (
        <Wide label="Variants">
          <table className="w-full border-collapse text-left">
            <thead className="text-soft">
              <tr>
                {!path && <th className={head}>source</th>}
                {["pixels", "format"].map((h) => <th key={h} className={head}>{h}</th>)}
                {["bytes", "of the source", "asked"].map((h) => <th key={h} className={head + " text-right"}>{h}</th>)}
                {["last asked", "made", "declarations"].map((h) => <th key={h} className={head}>{h}</th>)}
              </tr>
            </thead>
            <tbody>
              {list.data.items.map((v) => (
                <tr key={v.path + v.key} className="border-t border-line align-top">
                  {!path && (
                    <td className={cell + " min-w-44 [overflow-wrap:anywhere]"}>
                      <Link className="text-accent underline" href={addressOf("stock", [site, lane, ...elementsOf(v.path)])}>
                        {v.path}
                      </Link>
                    </td>
                  )}
                  <td className={cell + " whitespace-nowrap"}>
                    {v.width} × {v.height}
                  </td>
                  <td className={cell}>{v.format}</td>
                  <td className={cell + " text-right whitespace-nowrap"}>{bytesText(v.bytes)}</td>
                  <td className={cell + " text-right whitespace-nowrap"}>{v.source_bytes > 0 ? `${((100 * v.bytes) / v.source_bytes).toFixed(1)} %` : "–"}</td>
                  <td className={cell + " text-right"}>{countText(v.asked)}</td>
                  <td className={cell + " whitespace-nowrap"}>{whenText(v.used_at)}</td>
                  <td className={cell + " whitespace-nowrap"}>{whenText(v.made_at)}</td>
                  <td className={cell + " max-w-96 text-xs break-all"}>{v.declarations}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      {list.data?.skip && count < 1000 ? <Button onClick={() => setCount(Math.min(1000, count * 4))}>Show more</Button> : null}
    </>
  );
}

// Purge asks first, with what it would forget.
function Purge(props: { site: string; lane: string; path: string; label: string }) {
  const queries = useQueryClient();
  const [would, setWould] = useState<Schemas["Purged"]>();
  const [error, setError] = useState<Error>();
  const ask = { lane: props.lane || undefined, path: props.path || undefined };
  const name = [props.site, props.lane, props.path].filter(Boolean).join("/");
  return (
    <>
      <Button kind="danger" onClick={() => purge(props.site, { ...ask, dry_run: true }).then((w) => (setError(undefined), setWould(w)), setError)}>
        {props.label}
      </Button>
      {error && !would && <Trouble error={error} />}
      <Window title={`Purge ${name}?`} open={!!would} onClose={() => setWould(undefined)}>
        <p>
          {manyText(would?.variants ?? 0, "variant")}, {bytesText(would?.bytes ?? 0)}: forgotten on every node at once, and so is what was fetched of the sources. Whoever asks for one next waits until it is made
          anew. Caches in front keep theirs as long as they were told to.
        </p>
        {error && <Trouble error={error} />}
        <div className="flex justify-end gap-2">
          <Button onClick={() => setWould(undefined)}>Keep it</Button>
          <Button
            kind="danger"
            onClick={() =>
              purge(props.site, ask).then(() => {
                setWould(undefined);
                void queries.invalidateQueries({ queryKey: ["stock"] });
                void queries.invalidateQueries({ queryKey: ["variants"] });
                void queries.invalidateQueries({ queryKey: ["purges"] });
              }, setError)
            }
          >
            Purge
          </Button>
        </div>
      </Window>
    </>
  );
}

function Purges({ site }: { site: string }) {
  const list = useQuery({ queryKey: ["purges", site], queryFn: ({ signal }) => listPurges(site, signal), refetchInterval: 30_000 });
  if (!list.data?.length) return list.error ? <Trouble error={list.error} /> : null;
  return (
    <section aria-label="Purges">
      <h2 className="mb-1 font-semibold">Purges</h2>
      <Wide label="Purges">
        <table className="w-full border-collapse text-left">
          <thead className="text-soft">
            <tr>
              <th className={head}>at</th>
              <th className={head}>what</th>
              <th className={head + " text-right"}>variants</th>
              <th className={head + " text-right"}>bytes</th>
              <th className={head}>by</th>
              <th className={head}>cleared away</th>
            </tr>
          </thead>
          <tbody>
            {list.data.slice(0, 50).map((p) => (
              <tr key={p.serial} className="border-t border-line">
                <td className={cell + " whitespace-nowrap"}>{whenText(p.at)}</td>
                <td className={cell + " min-w-44 [overflow-wrap:anywhere]"}>{p.address || (p.class ? `class ${p.class}` : [p.site, p.lane, p.path].filter(Boolean).join("/"))}</td>
                <td className={cell + " text-right"}>{countText(p.variants)}</td>
                <td className={cell + " text-right whitespace-nowrap"}>{bytesText(p.bytes)}</td>
                <td className={cell + " whitespace-nowrap"}>{p.by}</td>
                <td className={cell}>{p.done_at ? "all" : `${countText(p.cleared)} so far`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
