import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect } from "react";
import { getSession, signOut } from "../api/calls";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Link } from "../parts/Link";
import { Trouble } from "../parts/Trouble";
import { addressOf, go, useAddress } from "./address";
import { SignIn } from "./SignIn";
import { useTheme } from "./theme";

// Each place comes when somebody goes there.
const Today = lazy(() => import("../today/Today").then((m) => ({ default: m.Today })));
const Lanes = lazy(() => import("../lanes/Lanes").then((m) => ({ default: m.Lanes })));
const Easel = lazy(() => import("../easel/Easel").then((m) => ({ default: m.Easel })));
const Sheet = lazy(() => import("../sheet/Sheet").then((m) => ({ default: m.Sheet })));
const Pages = lazy(() => import("../pages/Pages").then((m) => ({ default: m.Pages })));
const Stock = lazy(() => import("../stock/Stock").then((m) => ({ default: m.Stock })));
const Refusals = lazy(() => import("../refusals/Refusals").then((m) => ({ default: m.Refusals })));
const Keys = lazy(() => import("../keys/Keys").then((m) => ({ default: m.Keys })));

// The places of the console, in the order of the work.
const places = [
  { name: "today", title: "Today", view: Today },
  { name: "lanes", title: "Lanes", view: Lanes },
  { name: "easel", title: "Easel", view: Easel },
  { name: "sheet", title: "Sheet", view: Sheet },
  { name: "pages", title: "Pages", view: Pages },
  { name: "stock", title: "Stock", view: Stock },
  { name: "refusals", title: "Refusals", view: Refusals },
  { name: "keys", title: "Keys", view: Keys },
];

export function Frame() {
  const address = useAddress();
  const place = places.find((p) => p.name === address.place);
  const [theme, setTheme] = useTheme();
  const queries = useQueryClient();
  const session = useQuery({ queryKey: ["session"], queryFn: ({ signal }) => getSession(signal) });
  const inside = session.data?.signed_in ?? false;
  useEffect(() => {
    if (!address.place || (inside && address.place === "enter")) go(addressOf("today"), true);
  }, [address.place, inside]);
  return (
    <div className="flex min-h-dvh flex-col lg:h-dvh">
      <a href="#main" className="sr-only focus:not-sr-only focus:p-2">
        Skip to the content
      </a>
      <header className="flex flex-wrap items-center gap-x-6 gap-y-2 border-b border-line px-4 py-2">
        <span className="font-semibold tracking-tight">Echo Lane</span>
        <nav aria-label="Places" className="flex flex-1 flex-wrap gap-x-4 max-md:order-last max-md:basis-full">
          {inside && places.map((p) => (
            <Link key={p.name} href={addressOf(p.name)} aria-current={p === place ? "page" : undefined} className="border-b-2 border-transparent py-0.5 aria-[current]:border-accent aria-[current]:text-accent">
              {p.title}
            </Link>
          ))}
        </nav>
        {inside && (
          <span className="flex items-center gap-2 text-soft">
            <a href={addressOf("keys")} title={`may ${session.data?.may}`}>
              {session.data?.who}
            </a>
            <Button onClick={() => signOut().then(() => queries.resetQueries())}>Sign out</Button>
          </span>
        )}
        <Choice
          label="Light or dark"
          value={theme}
          options={[
            { value: "system", text: "System" },
            { value: "light", text: "Light" },
            { value: "dark", text: "Dark" },
          ]}
          onChange={setTheme}
        />
      </header>
      {inside && session.data?.lacking && (
        <p role="status" className="border-b border-line bg-panel px-4 py-1 text-sm">
          Render workers on this machine are isolated less than they could be:{" "}
          {session.data.lacking.map((m) => `${m.name} (${m.why || "not in force"})`).join(", ")}. <code className="figures">echolane doctor</code> says how to fix it.
        </p>
      )}
      <main id="main" className="flex min-h-0 flex-1 flex-col">
        {session.error ? (
          <div className="m-auto p-8">
            <Trouble error={session.error} />
          </div>
        ) : !session.data ? (
          <p className="m-auto p-8">Loading…</p>
        ) : !inside ? (
          <SignIn owned={session.data.owned} />
        ) : place ? (
          <Suspense fallback={<p className="m-auto p-8">Loading…</p>}>
            <place.view />
          </Suspense>
        ) : (
          address.place && address.place !== "enter" && <Nowhere />
        )}
      </main>
    </div>
  );
}

function Nowhere() {
  return (
    <div className="m-auto max-w-md p-8">
      <h1 className="text-lg font-semibold">There is no such place</h1>
      <p className="mt-2 text-soft">
        The console has nothing at this address. Go to the{" "}
        <a className="text-accent underline" href={addressOf("easel")}>
          Easel
        </a>
        .
      </p>
    </div>
  );
}
