// Today: what was answered lately, from where, how fast, and what it saved; and how the nodes and origins are.
import { useQuery } from "@tanstack/react-query";
import { useEffect, type ReactNode } from "react";
import { getToday } from "../api/calls";
import { Problem, type Schemas } from "../api/client";
import { addressOf, go, useAddress } from "../frame/address";
import { Chart } from "../parts/Chart";
import { Choice } from "../parts/Choice";
import { bytesText, countText, msText, partText, whenText } from "../parts/figures";
import { Figure } from "../parts/Figure";
import { Link } from "../parts/Link";
import { SitePick, useSites } from "../parts/SitePick";
import { Trouble } from "../parts/Trouble";
import { Wide } from "../parts/Wide";

type Span = "hour" | "day" | "month";
type Kind = Schemas["TrafficPoint"]["kind"];

const kinds: { kind: Kind; name: string; colour: string }[] = [
  { kind: "memory", name: "from memory", colour: "--chart-1" },
  { kind: "disk", name: "from disk", colour: "--chart-2" },
  { kind: "store", name: "from the store", colour: "--chart-3" },
  { kind: "made", name: "made", colour: "--chart-4" },
  { kind: "joined", name: "waited for the same render", colour: "--chart-5" },
  { kind: "original", name: "the source itself", colour: "--chart-6" },
  { kind: "refused", name: "refused", colour: "--chart-7" },
];

export function Today() {
  const address = useAddress();
  const site = address.parts[0] ?? "";
  const span = (address.query.get("span") ?? "hour") as Span;
  const sites = useSites();
  const today = useQuery({ queryKey: ["today", site, span], queryFn: ({ signal }) => getToday(site, span, signal), refetchInterval: 5000, placeholderData: (before) => before });
  // Who may look at some sites only begins with the first of them.
  const first = sites.data?.[0]?.name;
  const shut = !site && today.error instanceof Problem && today.error.details.reason === "not-permitted";
  useEffect(() => {
    if (shut && first) go(addressOf("today", [first]), true);
  }, [shut, first]);
  const to = (nextSite: string, nextSpan: Span) => go(addressOf("today", nextSite ? [nextSite] : [], nextSpan === "hour" ? undefined : new URLSearchParams({ span: nextSpan })));
  return (
    <div className="flex flex-col gap-4 overflow-y-auto p-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="flex-1 text-lg font-semibold">Today</h1>
        <SitePick site={site} all onChange={(v) => to(v, span)} />
        <Choice
          label="How far back"
          value={span}
          options={[
            { value: "hour", text: "Hour" },
            { value: "day", text: "Day" },
            { value: "month", text: "Month" },
          ]}
          onChange={(v) => to(site, v)}
        />
      </div>
      {today.error && <Trouble error={today.error} />}
      {sites.data?.length === 0 && (
        <div>
          <p>There is no site yet. Add one under Lanes, or with:</p>
          <pre className="figures mt-2 overflow-x-auto bg-panel p-2 text-sm">{"echolane site add shop\necholane lane add shop/photos --folder DIR"}</pre>
        </div>
      )}
      {today.data ? <Figures today={today.data} site={site} /> : !today.error && <p className="p-4">Loading…</p>}
    </div>
  );
}

function Figures({ today, site }: { today: Schemas["Today"]; site: string }) {
  const sum = (of: Kind[], what: "requests" | "bytes" | "unscaled_bytes") => today.points.filter((p) => of.includes(p.kind)).reduce((n, p) => n + p[what], 0);
  const kept: Kind[] = ["memory", "disk", "store"];
  const answered: Kind[] = [...kept, "made", "joined", "original"];
  const requests = sum([...answered, "refused"], "requests");
  const hits = sum(kept, "requests");
  const made = sum(["made", "joined"], "requests");
  const out = sum(answered, "bytes");
  const unscaled = sum(answered, "unscaled_bytes");
  const refused = sum(["refused"], "requests");
  const steps = stepsOf(today);
  const series = kinds
    .map((k) => ({ name: k.name, colour: k.colour, values: steps.map((at) => today.points.find((p) => p.kind === k.kind && Date.parse(p.at) === at)?.requests ?? 0) }))
    .filter((s) => s.values.some((v) => v > 0));
  const bytesAt = (what: "bytes" | "unscaled_bytes") => steps.map((at) => today.points.filter((p) => Date.parse(p.at) === at).reduce((n, p) => n + p[what], 0));
  const seconds = steps.map((at) => at / 1000);
  if (requests === 0)
    return (
      <>
        <p className="text-soft">
          Nothing was asked for in this time. Open an image address such as <code className="figures">/site/lane/path?width=640</code>, or look at one in the{" "}
          <Link className="text-accent underline" href={addressOf("easel")}>
            Easel
          </Link>
          .
        </p>
        <Nodes today={today} />
      </>
    );
  return (
    <>
      <dl className="grid grid-cols-2 gap-px border border-line bg-line md:grid-cols-3 xl:grid-cols-6">
        <Figure name="Requests" value={countText(requests)} more={`${countText(sum(["original"], "requests"))} for sources themselves`} />
        <Figure name="From the cache" value={partText(hits, hits + made)} more={kept.map((k) => `${k} ${partText(sum([k], "requests"), hits + made)}`).join(", ")} href={addressOf("stock", site ? [site] : [])} />
        <Figure name="Went out" value={bytesText(out)} more={`the sources would have been ${bytesText(unscaled)}: ${unscaled > 0 ? `−${(100 * (1 - out / unscaled)).toFixed(1)} %` : "–"}`} href={addressOf("stock", site ? [site] : [])} />
        <Figure name="Time, kept" value={timeText(today.hits.p50)} more={`p95 ${timeText(today.hits.p95)}, p99 ${timeText(today.hits.p99)}`} />
        <Figure name="Time, made" value={timeText(today.misses.p50)} more={`p95 ${timeText(today.misses.p95)}, p99 ${timeText(today.misses.p99)}`} />
        <Figure name="Refused" value={countText(refused)} more={partText(refused, requests)} href={addressOf("refusals", site ? [site] : [])} />
      </dl>
      <div className="grid gap-4 xl:grid-cols-2">
        <section aria-label="Requests" className="border border-line p-3">
          <h2 className="mb-2 font-semibold">Requests, by where the answer came from</h2>
          <Chart kind="bars" label={`${countText(requests)} requests: ${series.map((s) => `${s.name} ${countText(s.values.reduce((a, b) => a + b, 0))}`).join(", ")}`} at={seconds} series={series} text={countText} time={(at) => stepText(at, today.span)} />
        </section>
        <section aria-label="Bytes" className="border border-line p-3">
          <h2 className="mb-2 font-semibold">Bytes that went out, and what the sources would have been</h2>
          <Chart
            kind="lines"
            label={`${bytesText(out)} went out; the sources would have been ${bytesText(unscaled)}`}
            at={seconds}
            time={(at) => stepText(at, today.span)}
            series={[
              { name: "went out", colour: "--chart-1", values: bytesAt("bytes") },
              { name: "the sources", colour: "--chart-4", values: bytesAt("unscaled_bytes"), dashed: true },
            ]}
            text={bytesText}
          />
        </section>
      </div>
      <section aria-label="Times">
        <h2 className="mb-1 font-semibold">Time to an answer, by where it came from</h2>
        <Table heads={["where from", "requests", "half within", "95 %", "99 %"]} right={[1, 2, 3, 4]}>
          {today.tiers.map((t) => (
            <tr key={t.kind} className="border-t border-line">
              <Cell>{kinds.find((k) => k.kind === t.kind)?.name}</Cell>
              <Cell right>{countText(t.requests)}</Cell>
              <Cell right>{timeText(t.p50)}</Cell>
              <Cell right>{timeText(t.p95)}</Cell>
              <Cell right>{timeText(t.p99)}</Cell>
            </tr>
          ))}
        </Table>
      </section>
      <Nodes today={today} />
    </>
  );
}

function Nodes({ today }: { today: Schemas["Today"] }) {
  const origins = today.nodes.flatMap((n) => n.origins.map((o) => ({ ...o, node: n.listen || n.id })));
  return (
    <>
      <section aria-label="Nodes">
        <h2 className="mb-1 font-semibold">Nodes</h2>
        <Table heads={["node", "up since", "workers", "waiting", "lost", "memory", "disk", "store"]} right={[2, 3, 4, 5, 6]}>
          {today.nodes.map((n) => (
            <tr key={n.id} className="border-t border-line align-top">
              <Cell>{n.listen || n.id}</Cell>
              <Cell fixed>{whenText(n.begun_at)}</Cell>
              <Cell right>{n.workers}</Cell>
              <Cell right>{n.waiting}</Cell>
              <Cell right>{n.workers_lost}</Cell>
              <Cell right>
                {n.memory_limit > 0 && `${bytesText(n.memory_bytes)} of ${bytesText(n.memory_limit)}`}
              </Cell>
              <Cell right>{n.disk ? <span className="text-trouble">{n.disk}</span> : n.disk_limit > 0 ? `${bytesText(n.disk_bytes)} of ${bytesText(n.disk_limit)}` : "none"}</Cell>
              <Cell>{n.store ? <span className="text-trouble">{n.store}</span> : n.store_at || "none"}</Cell>
            </tr>
          ))}
        </Table>
      </section>
      {origins.length > 0 && (
        <section aria-label="Origins">
          <h2 className="mb-1 font-semibold">Origins and stores of lanes, in the last minutes</h2>
          <Table heads={["lane", "node", "asked", "failed", "mean time", "last failure"]} right={[2, 3, 4]}>
            {origins.map((o) => (
              <tr key={o.node + o.site + o.lane} className="border-t border-line align-top">
                <Cell>
                  {o.site}/{o.lane}
                </Cell>
                <Cell>{o.node}</Cell>
                <Cell right>{countText(o.looks)}</Cell>
                <Cell right>{o.failed > 0 ? <span className="text-trouble">{countText(o.failed)}</span> : "0"}</Cell>
                <Cell right>{msText(o.mean_ms)}</Cell>
                <Cell>{o.last ? `${o.last} (${whenText(o.last_at)})` : ""}</Cell>
              </tr>
            ))}
          </Table>
        </section>
      )}
    </>
  );
}

function Table(props: { heads: string[]; right: number[]; children: ReactNode }) {
  return (
    <Wide label={props.heads.filter(Boolean).join(", ")}>
      <table className="w-full border-collapse text-left">
        <thead className="text-soft">
          <tr>
            {props.heads.map((h, i) => (
              <th key={h} className={`py-1 pr-4 font-normal whitespace-nowrap ${props.right.includes(i) ? "text-right" : ""}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{props.children}</tbody>
      </table>
    </Wide>
  );
}

function Cell(props: { right?: boolean; fixed?: boolean; children: ReactNode }) {
  return <td className={`figures py-1 pr-4 ${props.right ? "text-right" : ""} ${props.right || props.fixed ? "whitespace-nowrap" : ""}`}>{props.children}</td>;
}

// stepsOf are the beginnings of all steps, also of those in which nothing was answered.
function stepsOf(today: Schemas["Today"]): number[] {
  const from = Date.parse(today.from);
  const count = { hour: 60, day: 96, month: 60 }[today.span];
  return Array.from({ length: count }, (_, i) => from + i * today.step_s * 1000);
}

function stepText(at: number, span: Span): string {
  const d = new Date(at * 1000);
  const two = (n: number) => String(n).padStart(2, "0");
  return span === "month" ? `${d.getDate()}.${d.getMonth() + 1}.` : `${two(d.getHours())}:${two(d.getMinutes())}`;
}

function timeText(seconds: number): string {
  if (seconds === 0) return "–";
  if (seconds < 0.001) return `${(seconds * 1e6).toFixed(0)} µs`;
  return seconds < 1 ? msText(seconds * 1000) : `${seconds.toFixed(2)} s`;
}
