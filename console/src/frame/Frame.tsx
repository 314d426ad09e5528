import { useEffect } from "react";
import { Easel } from "../easel/Easel";
import { Choice } from "../parts/Choice";
import { addressOf, go, useAddress } from "./address";
import { useTheme } from "./theme";

// The places of the console, in the order of the work.
const places = [{ name: "easel", title: "Easel", view: Easel }];

export function Frame() {
  const address = useAddress();
  const place = places.find((p) => p.name === address.place);
  const [theme, setTheme] = useTheme();
  useEffect(() => {
    if (!address.place) go(addressOf("easel"), true);
  }, [address.place]);
  return (
    <div className="flex min-h-dvh flex-col lg:h-dvh">
      <a href="#main" className="sr-only focus:not-sr-only focus:p-2">
        Skip to the content
      </a>
      <header className="flex items-center gap-6 border-b border-line px-4 py-2">
        <span className="font-semibold tracking-tight">Echo Lane</span>
        <nav aria-label="Places" className="flex flex-1 gap-4">
          {places.map((p) => (
            <a
              key={p.name}
              href={addressOf(p.name)}
              aria-current={p === place ? "page" : undefined}
              onClick={(e) => {
                if (e.metaKey || e.ctrlKey || e.shiftKey) return;
                e.preventDefault();
                go(addressOf(p.name));
              }}
              className="border-b-2 border-transparent py-0.5 aria-[current]:border-accent aria-[current]:text-accent"
            >
              {p.title}
            </a>
          ))}
        </nav>
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
      <main id="main" className="flex min-h-0 flex-1 flex-col">
        {place ? <place.view /> : address.place && <Nowhere />}
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
