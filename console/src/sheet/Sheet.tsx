// Sheet: the named treatments of a site's images, edited with what they do in view.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { checkSheet, dropDraft, getLanguage, getSheet, listSheetHistory, listSites, previewAddress, publishSheet, putDraft, restoreSheet } from "../api/calls";
import { type CheckedSheet, pageOfSources, Problem } from "../api/client";
import { useSettled } from "../easel/pictures";
import { addressOf, go, useAddress } from "../frame/address";
import { Button } from "../parts/Button";
import { Field } from "../parts/Field";
import { whenText } from "../parts/figures";
import { Pick } from "../parts/Pick";
import { SourceRow } from "../parts/SourceRow";
import { Trouble } from "../parts/Trouble";
import { Destroy, Window } from "../parts/Window";
import { Editor } from "./Editor";
import { Place } from "./Place";

export function Sheet() {
  const address = useAddress();
  const sites = useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => listSites(signal) });
  const name = address.parts[0];
  useEffect(() => {
    const first = sites.data?.[0];
    if (!name && first) go(addressOf("sheet", [first.name]), true);
  }, [name, sites.data]);
  if (sites.error) return <div className="p-4"><Trouble error={sites.error} /></div>;
  if (sites.data?.length === 0) return <p className="m-auto p-8">There is no site yet. Add one in Lanes.</p>;
  if (!name) return null;
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-3 p-4 max-lg:overflow-y-auto">
      <div className="flex items-center gap-3">
        <h1 className="text-lg font-semibold">Sheet</h1>
        <Pick label="Site" value={name} options={(sites.data ?? []).map((s) => ({ value: s.name, text: s.name }))} onChange={(v) => go(addressOf("sheet", [v]))} />
      </div>
      <Work key={name} site={name} lanes={sites.data?.find((s) => s.name === name)?.document.lanes.map((l) => l.name) ?? []} />
    </div>
  );
}

const none: CheckedSheet = { problems: [], warnings: [], classes: [], takes: [], added: [], removed: [], uses: [] };

function Work({ site, lanes }: { site: string; lanes: string[] }) {
  const queries = useQueryClient();
  const address = useAddress();
  const sheet = useQuery({ queryKey: ["sheet", site], queryFn: ({ signal }) => getSheet(site, signal) });
  const language = useQuery({ queryKey: ["language"], queryFn: ({ signal }) => getLanguage(signal), staleTime: Infinity });
  const [text, setText] = useState<string>();
  const [error, setError] = useState<Error>();
  const shown = text ?? sheet.data?.draft?.text ?? sheet.data?.text ?? "";
  const settled = useSettled(shown, 400);
  const checked = useQuery({ queryKey: ["checked", site, settled, sheet.data?.version], queryFn: () => checkSheet(site, { text: settled }), enabled: sheet.data !== undefined, placeholderData: (before) => before });
  const result = checked.data ?? none;
  const published = sheet.data?.text ?? "";
  const changed = shown !== published;
  // Writes follow each other: what was typed last is kept last, and no draft comes after what is published.
  const writes = useRef<Promise<unknown>>(Promise.resolve());
  const write = <T,>(what: () => Promise<T>) => {
    const next = writes.current.then(what);
    writes.current = next.catch(() => undefined);
    return next;
  };
  // What is typed is kept as the draft, right or not, so that nothing is lost.
  const [saved, setSaved] = useState("");
  const draft = useRef<string>(undefined); // that was sent last; undefined: none, or what the service says
  useEffect(() => {
    if (text === undefined || settled !== text) return;
    const kept = draft.current ?? sheet.data?.draft?.text;
    if (settled === published) {
      draft.current = undefined;
      if (kept !== undefined) void write(() => dropDraft(site)).then(() => (setSaved(""), queries.invalidateQueries({ queryKey: ["sheet", site] })), setError);
      return;
    }
    if (settled === kept) return setSaved(settled);
    draft.current = settled;
    write(() => putDraft(site, { text: settled })).then(
      (s) => (queries.setQueryData(["sheet", site], s), setSaved(settled)),
      (e) => ((draft.current = undefined), setError(e)),
    );
  }, [settled, text]);
  const done = () => ((draft.current = undefined), setText(undefined), setError(undefined), queries.invalidateQueries());
  const publish = (anyway: boolean) => write(() => publishSheet(site, { text: shown, anyway }, sheet.data!.version)).then((s) => (queries.setQueryData(["sheet", site], s), done()), setError);
  const discard = () => write(() => dropDraft(site)).then(() => (queries.setQueryData(["sheet", site], { ...sheet.data!, draft: undefined }), done()), setError);
  const source = address.query.get("source") ?? "";
  if (sheet.error) return <Trouble error={sheet.error} />;
  if (!sheet.data || !language.data) return <p>Loading…</p>;
  const inUse = error instanceof Problem && error.details.reason === "class-in-use";
  return (
    <div className="grid min-h-0 flex-1 gap-4 lg:grid-cols-[minmax(0,5fr)_minmax(0,4fr)]">
      <section aria-label="Editor" className="flex min-h-0 flex-col gap-2">
        <Editor text={shown} language={language.data} classes={result.classes} problems={result.problems} onChange={setText} />
        <div className="flex flex-wrap items-center gap-2" aria-live="polite">
          <Button kind="main" disabled={!changed || result.problems.length > 0 || settled !== shown} onClick={() => publish(false)}>
            Publish
          </Button>
          {changed && (
            <Destroy what="Discard the draft" question="Discard the draft?" detail="What is published stays as it is." onSure={discard} />
          )}
          <span className="text-soft">
            {result.problems.length > 0
              ? `${result.problems.length} ${result.problems.length === 1 ? "problem" : "problems"}: it can't be published`
              : changed
                ? `a draft${saved === shown || sheet.data.draft?.text === shown ? `, kept, by ${sheet.data.draft?.by}` : ""}${sheet.data.draft && sheet.data.draft.base !== sheet.data.version ? `, begun from version ${sheet.data.draft.base}; now ${sheet.data.version} is published` : ""}${result.added.length ? `; new: ${result.added.join(", ")}` : ""}${result.removed.length ? `; gone: ${result.removed.join(", ")}` : ""}`
                : `published, version ${sheet.data.version}`}
          </span>
        </div>
        {result.problems.length > 0 && (
          <ul className="max-h-28 overflow-y-auto text-sm">
            {result.problems.map((p, i) => (
              <li key={i}>
                <span className="figures">
                  {p.line}:{p.column}
                </span>{" "}
                {p.detail}
                {p.nearest && <b>; did you mean {p.nearest}?</b>}
                {p.remedy && <>; {p.remedy}</>} {p.allowed && <span className="text-soft">Allowed: {p.allowed}</span>}
              </li>
            ))}
          </ul>
        )}
        {error && !inUse && <Trouble error={error} />}
        <Window title="Classes are in use" open={inUse} onClose={() => setError(undefined)}>
          <p className="whitespace-pre-line">{inUse && (error as Problem).details.detail}</p>
          <div className="flex justify-end gap-2">
            <Button onClick={() => setError(undefined)}>Keep them</Button>
            <Button kind="danger" onClick={() => publish(true)}>
              Publish anyway
            </Button>
          </div>
        </Window>
        <History site={site} version={sheet.data.version} onDone={done} onError={setError} />
      </section>
      <Previews site={site} lanes={lanes} source={source} before={sheet.data.classes} after={result.problems.length ? undefined : result.classes} takes={result.problems.length ? sheet.data.takes : result.takes} mark={saved || published} draft={changed} text={shown} ready={result.problems.length === 0} onChange={setText} />
    </div>
  );
}

// Every class drawn on a source, as it is published and as the draft has it.
function Previews(props: { site: string; lanes: string[]; source: string; before: string[]; after: string[] | undefined; takes: CheckedSheet["takes"]; mark: string; draft: boolean; text: string; ready: boolean; onChange: (text: string) => void }) {
  const [source, setSource] = useState(props.source);
  const settled = useSettled(source, 400);
  useEffect(() => {
    const q = new URLSearchParams();
    if (settled) q.set("source", settled);
    go(addressOf("sheet", [props.site], q), true);
  }, [settled, props.site]);
  // Something to see at once: the first source that there is.
  const first = useQuery({ queryKey: ["first-sources", props.site, props.lanes[0]], queryFn: ({ signal }) => pageOfSources(props.site, props.lanes[0]!, "", signal), enabled: props.source === "" && props.lanes.length > 0 });
  useEffect(() => {
    const one = first.data?.items[0];
    if (props.source === "" && one) setSource((s) => s || `${props.lanes[0]}/${one.path}`);
  }, [first.data]);
  const [given, setGiven] = useState<Record<string, string>>({});
  const values = useSettled(given, 400);
  const data = props.takes.flatMap((t) => (values[t.name] ? [`${t.name}=${encodeURIComponent(values[t.name]!)}`] : [])).join("&");
  const [words, setWords] = useState(ownWords);
  const sample = (words: string[]) => setGiven(Object.fromEntries(props.takes.filter((t) => !t.picture).map((t, i) => [t.name, t.number ? (words[0] ? "49" : "") : words[i % words.length]!])));
  const names = ["", ...new Set([...props.before, ...(props.after ?? [])])];
  const sources = settled.split(",").map((s) => s.trim()).filter(Boolean);
  const picture = (name: string, draft: boolean, there: boolean) =>
    there ? (
      <div className="flex flex-wrap gap-2">
        {sources.map((s) => (
          <img key={s} src={`${previewAddress(props.site, s, name, draft, data)}&mark=${draft ? hash(props.mark) : "published"}`} alt={`${name ? "." + name : "*"}, ${s}, ${draft ? "draft" : "published"}`} className="max-h-40 max-w-full" />
        ))}
      </div>
    ) : (
      <span className="text-soft">not there</span>
    );
  return (
    <section aria-label="What the classes do" className="flex min-h-0 flex-col gap-2 lg:overflow-y-auto">
      <SourceRow site={props.site} lanes={props.lanes} picked={sources} onPick={(s) => setSource(s.join(", "))} />
      <Field label="Drawn on" value={source} onChange={setSource} placeholder="catalogue/delta-red.jpg" hint="Sources as lane/path, divided by commas" />
      {props.takes.length > 0 && (
        <fieldset className="flex flex-col gap-2 border border-line p-2">
          <legend className="px-1 text-soft">What cards show</legend>
          <div className="grid gap-2 sm:grid-cols-2">
            {props.takes.map((t) => (
              <Field
                key={t.name}
                label={t.name}
                value={given[t.name] ?? ""}
                placeholder={t.default || (t.picture ? "lane/path" : t.number ? "a number" : "nothing")}
                onChange={(v) => (setWords(ownWords), setGiven((all) => ({ ...all, [t.name]: v })))}
              />
            ))}
          </div>
          <Pick label="Sample words" value={words} options={[ownWords, ...Object.keys(samples)].map((s) => ({ value: s, text: s }))} onChange={(s) => (setWords(s), sample(samples[s] ?? [""]))} />
        </fieldset>
      )}
      {sources[0] && props.ready && props.text.includes("::") && (
        <Place site={props.site} source={sources[0]} classes={props.after ?? []} data={data} mark={String(hash(props.mark))} text={props.text} drawn={props.mark === props.text} onChange={props.onChange} />
      )}
      {sources.length === 0 ? (
        <p className="text-soft">Pick a source, or several, to see what each class makes of them.</p>
      ) : (
        <table className="w-full table-fixed text-left">
          <thead className="text-soft">
            <tr>
              <th className="w-24 py-1 pr-3 font-normal">class</th>
              <th className="py-1 pr-3 font-normal">published</th>
              {props.draft && <th className="py-1 font-normal">draft</th>}
            </tr>
          </thead>
          <tbody>
            {names.map((name) => (
              <tr key={name} className="border-t border-line align-top">
                <td className="figures py-2 pr-3 break-words">{name ? "." + name : "*"}</td>
                <td className="py-2 pr-3">{picture(name, false, name === "" || props.before.includes(name))}</td>
                {props.draft && <td className="py-2">{props.after ? picture(name, true, name === "" || props.after.includes(name)) : <span className="text-soft">has problems</span>}</td>}
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

const ownWords = "Words of your own";

// Words about kites, to see what a card makes of them: short and long.
const samples: Record<string, string[]> = {
  English: ["Kites by hand", "Sewn in the loft above the harbour, flown on the wall on every day of steady wind"],
  German: ["Drachenflügel", "Genäht auf dem Boden über dem Hafen, geflogen an jedem Tag mit stetigem Wind"],
  Greek: ["Χαρταετός", "Πετάει ψηλά πάνω από τη θάλασσα με τον άνεμο του νοτιά"],
  Russian: ["Воздушный змей", "Летит над морем, когда дует ровный ветер"],
  Vietnamese: ["Những cánh diều", "Bay cao trên bầu trời mùa hè, tiếng sáo diều vi vu trong gió chiều"],
  Armenian: ["Կարմիր թռուցիկ", "Բարձր թռչում է ծովի վրայով, և երեխաները վազում են ավազի վրա"],
  Georgian: ["წითელი ფრანი", "მაღლა დაფრინავს ზღვის თავზე და ბავშვები ქვიშაზე დარბიან"],
  Amharic: ["ቀይ ካይት", "ከባሕሩ በላይ ከፍ ብሎ ይበራል ልጆችም በአሸዋ ላይ ይሮጣሉ"],
  Arabic: ["طائرة ورقية", "تحلق عالياً فوق البحر في كل يوم من أيام الريح"],
  Hebrew: ["עפיפון אדום", "עף גבוה מעל הים בכל יום של רוח"],
  Hindi: ["लाल पतंग", "समुद्र के ऊपर ऊँची उड़ती है जब हवा तेज़ हो"],
  Bengali: ["লাল ঘুড়ি", "সমুদ্রের উপরে উঁচুতে উড়ছে আর শিশুরা বালির উপর দৌড়াচ্ছে"],
  Tamil: ["சிவப்பு பட்டம்", "கடலின் மேல் உயரமாக பறக்கிறது, குழந்தைகள் மணலில் ஓடுகிறார்கள்"],
  Thai: ["ว่าวสีแดง", "บินสูงเหนือทะเลในวันที่ลมแรง"],
  Chinese: ["红色的风筝", "在大风天里高高地飞在海面上，孩子们在沙滩上奔跑"],
  Japanese: ["赤い凧", "風の強い日に海の上を高く飛び、子どもたちは砂浜を走っている"],
  Korean: ["빨간 연", "바람이 센 날 바다 위로 높이 날고 아이들은 모래밭을 달린다"],
  Emoji: ["Up it goes 🪁", "Over the sea 🌊 with 👩🏽‍🚀 and 🇯🇵"],
  "One long word": ["Rindfleischetikettierungsüberwachung", "Rindfleischetikettierungsüberwachungsaufgabenübertragungsgesetz"],
};

function hash(text: string): number {
  let h = 0;
  for (let i = 0; i < text.length; i++) h = (h * 31 + text.charCodeAt(i)) | 0;
  return h;
}

function History(props: { site: string; version: number; onDone: () => void; onError: (e: Error) => void }) {
  const list = useQuery({ queryKey: ["sheet-history", props.site, props.version], queryFn: ({ signal }) => listSheetHistory(props.site, signal) });
  return (
    <details>
      <summary>History</summary>
      <div className="max-h-48 overflow-y-auto">
        <table className="w-full text-left text-sm">
          <tbody>
            {list.data?.map((c, i) => (
              <tr key={c.version} className="border-t border-line">
                <td className="figures py-1 pr-3 text-right">{c.version}</td>
                <td className="figures py-1 pr-3 whitespace-nowrap">{whenText(c.at)}</td>
                <td className="py-1 pr-3">{c.by}</td>
                <td className="py-1 pr-3">{c.what}</td>
                <td className="py-1 text-right">{i > 0 && <Button onClick={() => restoreSheet(props.site, { version: c.version, anyway: false }, props.version).then(props.onDone, props.onError)}>Restore</Button>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </details>
  );
}
