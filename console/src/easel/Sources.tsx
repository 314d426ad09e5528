import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { getFound, warm } from "../api/calls";
import { pageOfSources } from "../api/client";
import { Patient } from "../parts/Patient";
import { Trouble } from "../parts/Trouble";
import { imageAddress } from "./declarations";
import { useSettled } from "./pictures";

// The lane's sources by their thumbnails, which the service makes like any other variant: beside the one that is worked on, or
// large, where none is.
export function Sources(props: { site: string; lane: string; path: string | undefined; large?: boolean; onPick: (path: string) => void }) {
  const large = props.large ?? false;
  const [filter, setFilter] = useState("");
  const list = useInfiniteQuery({
    queryKey: ["sources", props.site, props.lane],
    queryFn: ({ pageParam, signal }) => pageOfSources(props.site, props.lane, pageParam, signal),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });
  const typed = filter.trim();
  // A term with a colon is about what is in the pictures, which the service knows of those that it has looked at.
  const byContents = /(^|\s)(?!https?:)[a-z]+:/i.test(typed);
  const asked = useSettled(typed, 250);
  const found = useInfiniteQuery({
    queryKey: ["found", props.site, props.lane, asked],
    queryFn: ({ pageParam, signal }) => getFound(props.site, asked, props.lane, 100, pageParam, signal),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
    enabled: byContents && asked === typed,
    retry: false,
  });
  const queries = useQueryClient();
  const [looking, setLooking] = useState<"not" | "begun" | Error>("not");
  const all = list.data?.pages.flatMap((p) => p.items) ?? [];
  const shown: { path: string }[] = byContents ? (found.data?.pages.flatMap((p) => p.items) ?? []) : all.filter((s) => s.path.toLowerCase().includes(typed.toLowerCase()));
  const more = byContents ? found : list;
  const lookedAt = found.data?.pages[0]?.looked_at ?? 0;
  // What isn't listed (a URL that nobody asked for yet) opens by its name.
  const open = typed !== "" && !byContents && (shown.length === 0 || (/^https?:\/\//i.test(typed) && !all.some((s) => s.path === typed)));
  const move = (e: React.KeyboardEvent<HTMLUListElement>) => {
    const columns = getComputedStyle(e.currentTarget).gridTemplateColumns.split(" ").length;
    const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns, ArrowUp: -columns }[e.key];
    if (!step) return;
    const buttons = [...e.currentTarget.querySelectorAll("button")];
    const at = buttons.indexOf(document.activeElement as HTMLButtonElement);
    const next = buttons[at + step];
    if (next) {
      e.preventDefault();
      next.focus();
    }
  };
  return (
    <>
      <input
        type="search"
        aria-label="Find a source"
        placeholder={large ? "Find: a name, colour:red, faces:>0" : "Find a source"}
        title="A part of the name; or what is in it, such as colour:red faces:>0 width:>2000"
        value={filter}
        onChange={(e) => setFilter(e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && open && props.onPick(typed)}
        className={`border border-edge bg-ground px-2 py-1 placeholder:text-soft ${large ? "w-full max-w-md" : "w-full"}`}
      />
      {more.error && <Trouble error={more.error} />}
      {looking instanceof Error && <Trouble error={looking} />}
      {byContents && found.isSuccess && (
        <p className="text-sm text-soft">
          {lookedAt === 0 ? "No source of this lane has been analysed yet. " : `Among ${lookedAt} analysed so far. `}
          {looking === "begun" ? (
            "The lane is being analysed."
          ) : (
            <button
              type="button"
              className="underline"
              onClick={() =>
                warm(props.site, { lane: props.lane, facts: true }).then(
                  () => {
                    setLooking("begun");
                    setTimeout(() => void queries.invalidateQueries({ queryKey: ["found", props.site, props.lane] }), 5000);
                  },
                  (e: Error) => setLooking(e),
                )
              }
            >
              Analyse all of them
            </button>
          )}
        </p>
      )}
      {!byContents && list.isSuccess && shown.length === 0 && (
        <p className="text-soft">{filter ? "No source has that in its name." : "No sources are known in this lane yet. Type the path or URL of one above to open it."}</p>
      )}
      {open && (
        <button type="button" onClick={() => props.onPick(typed)} title={typed} className="truncate border border-edge px-2 py-1 text-left">
          Open {typed}
        </button>
      )}
      <ul aria-label="Sources" onKeyDown={move} className={
          large
            ? "grid min-h-0 flex-1 content-start grid-cols-2 gap-3 sm:grid-cols-[repeat(auto-fill,minmax(15rem,1fr))] sm:gap-4 overflow-y-auto p-0.5"
            : "grid max-h-72 min-h-0 grid-cols-4 gap-2 overflow-y-auto p-0.5 lg:max-h-none lg:flex-1 lg:grid-cols-2 lg:content-start"
        }>
        {shown.map((s) => (
          <li key={s.path}>
            <button
              type="button"
              aria-pressed={s.path === props.path}
              onClick={() => props.onPick(s.path)}
              className="block w-full border-2 border-transparent text-left aria-pressed:border-accent"
            >
              <Patient
                src={imageAddress(props.site, props.lane, s.path, { width: large ? 480 : 208, shape: "4/3", fit: "cover", more: { "object-position": "subject" } })}
                alt=""
                width={large ? 480 : 104}
                height={large ? 360 : 78}
                loading="lazy"
                className="aspect-[4/3] w-full bg-panel object-cover"
              />
              <span className={`block truncate px-0.5 ${large ? "py-1" : "text-xs"}`} title={s.path}>
                {s.path}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {more.hasNextPage && (
        <button type="button" onClick={() => more.fetchNextPage()} className="self-start border border-edge px-2 py-1">
          {more.isFetchingNextPage ? "Loading…" : "Show more"}
        </button>
      )}
    </>
  );
}
