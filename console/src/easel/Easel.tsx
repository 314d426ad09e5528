// The Easel: one source; set declarations, see the variant beside its original.
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { getFacts, listSites, originalAddress } from "../api/calls";
import { addressOf, elementsOf, go, useAddress } from "../frame/address";
import { Choice } from "../parts/Choice";
import { Pick } from "../parts/Pick";
import { Trouble } from "../parts/Trouble";
import { Compare } from "./Compare";
import { Controls } from "./Controls";
import { CopyAddress } from "./CopyAddress";
import { imageAddress, readDeclarations, writeDeclarations, type Declarations } from "./declarations";
import { usePicture, useSettled } from "./pictures";
import { Places } from "./Places";
import { Sources } from "./Sources";
import { Markup } from "./Markup";
import { Sweep } from "./Sweep";

export function Easel() {
  const address = useAddress();
  const sites = useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => listSites(signal) });
  const [site, lane, ...rest] = address.parts;
  const lanes = sites.data?.flatMap((s) => s.document.lanes.map((l) => ({ site: s.name, name: l.name }))) ?? [];
  const first = lanes[0];
  useEffect(() => {
    if (!site && first) go(addressOf("easel", [first.site, first.name]), true);
  }, [site, first]);

  if (sites.error) return <Empty><Trouble error={sites.error} /></Empty>;
  if (!sites.data) return <Empty>Loading…</Empty>;
  if (!first) {
    return (
      <Empty>
        <h1 className="text-lg font-semibold">No lane yet</h1>
        <p className="mt-2">
          A lane is the way from a site to where its images lie. Add one in <a className="text-accent underline" href={addressOf("lanes")}>Lanes</a>, or in a terminal:
        </p>
        <pre className="figures mt-2 overflow-x-auto bg-panel p-2 text-sm">{"echolane site add shop\necholane lane add shop/photos --folder DIR"}</pre>
      </Empty>
    );
  }
  if (!site || !lane) return null;
  const known = sites.data.find((s) => s.name === site);
  // A source opens at a width that suits the screen, and not at its natural one, which may be a camera's.
  const pick = (p: string) => {
    const q = new URLSearchParams(address.query);
    if (!["width", "height", "class"].some((n) => q.has(n))) q.set("width", String(opening(known?.document.ladder.rungs ?? [])));
    go(addressOf("easel", [site, lane, ...elementsOf(p)], q));
  };
  const lanePick = (
    <Pick
      label="Lane"
      wide
      value={`${site}/${lane}`}
      options={lanes.map((l) => ({ value: `${l.site}/${l.name}`, text: `${l.site} / ${l.name}` }))}
      onChange={(v) => go(addressOf("easel", v.split("/"), address.query))}
    />
  );
  if (rest.length === 0) {
    return (
      <div className="flex min-h-0 flex-1 flex-col gap-3 p-4">
        <h1 className="sr-only">Easel</h1>
        <div className="max-w-md">{lanePick}</div>
        <Sources key={`${site}/${lane}`} site={site} lane={lane} path={undefined} large onPick={pick} />
      </div>
    );
  }
  return (
    <div className="flex min-h-0 flex-1 flex-col lg:grid lg:grid-cols-[15rem_minmax(0,1fr)_22rem]">
      <h1 className="sr-only">Easel</h1>
      <aside aria-label="Source" className="flex min-h-0 flex-col gap-2 border-line p-3 max-lg:border-b lg:border-r">
        {lanePick}
        <Sources key={`${site}/${lane}`} site={site} lane={lane} path={rest.join("/") || undefined} onPick={pick} />
      </aside>
      <Work key={rest.join("/")} site={site} lane={lane} path={rest.join("/")} query={address.query} formats={known?.document.formats ?? []} rungs={known?.document.ladder.rungs ?? []} defaults={readDeclarations(new URLSearchParams(known?.defaults))} />
    </div>
  );
}

// opening is the width that a source opens at: a usual one, or the nearest rung of a ladder.
function opening(rungs: number[]): number {
  const usual = 960;
  return rungs.length === 0 ? usual : rungs.reduce((a, b) => (Math.abs(b - usual) < Math.abs(a - usual) ? b : a));
}

function Work(props: { site: string; lane: string; path: string; query: URLSearchParams; formats: string[]; rungs: number[]; defaults: Declarations }) {
  const { site, lane, path } = props;
  const declared = readDeclarations(props.query);
  const image = imageAddress(site, lane, path, declared);
  const settled = useSettled(image, 150);
  const facts = useQuery({ queryKey: ["facts", site, lane, path], queryFn: ({ signal }) => getFacts(site, lane, path, signal) });
  const original = usePicture(originalAddress(site, lane, path, 0));
  const variant = usePicture(settled);
  const asked = props.query.get("view");
  const view = asked === "places" || asked === "sweep" || asked === "markup" ? asked : "compare";
  const show = (d: Declarations, v: string) => {
    const q = writeDeclarations(d);
    if (v !== "compare") q.set("view", v);
    go(addressOf("easel", [site, lane, ...elementsOf(path)], q), true);
  };
  const change = (d: Declarations) => show(d, view);
  return (
    <>
      <div className="flex min-h-0 min-w-0 flex-col">
        <CopyAddress address={image} />
        <div className="border-b border-line px-4 py-2">
          <Choice
            label="View"
            value={view}
            options={[
              { value: "compare", text: "compare" },
              { value: "places", text: "places" },
              { value: "sweep", text: "sweep" },
              { value: "markup", text: "markup" },
            ]}
            onChange={(v) => show(declared, v)}
          />
        </div>
        {view === "places" ? (
          <Places
            site={site}
            lane={lane}
            path={path}
            original={original.error ? undefined : original.data}
            variant={variant.error ? undefined : variant.data}
            source={imageAddress(site, lane, path, { more: {} })}
            error={original.error ?? variant.error}
            declared={declared}
            onChange={(name, value) => {
              const more = { ...declared.more };
              if (value === undefined) delete more[name];
              else more[name] = value;
              change({ ...declared, more });
            }}
          />
        ) : view === "markup" ? (
          <Markup site={site} lane={lane} path={path} declared={declared} />
        ) : view === "sweep" ? (
          <Sweep site={site} lane={lane} path={path} declared={declared} delivers={props.formats} alpha={facts.data?.has_alpha ?? false} />
        ) : (
        <Compare
          original={original.error ? undefined : original.data}
          variant={variant.error ? undefined : variant.data}
          standIn={imageAddress(site, lane, path, { width: props.rungs[0] ?? 208, more: {} })}
          natural={facts.data}
          alpha={(facts.data?.has_alpha ?? false) || "mask-image" in declared.more}
          fit={declared.fit ?? props.defaults.fit ?? "fill"}
          busy={variant.isFetching || settled !== image}
          error={variant.error ?? original.error}
        />
        )}
      </div>
      <aside aria-label="Declarations" className="overflow-y-auto border-line p-4 max-lg:border-t lg:border-l">
        <Controls declared={declared} defaults={props.defaults} facts={facts.data} onChange={change} />
      </aside>
    </>
  );
}

function Empty({ children }: { children: React.ReactNode }) {
  return <div className="m-auto max-w-md p-8">{children}</div>;
}
