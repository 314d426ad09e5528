import { getLadder } from "../api/calls";
import { type Document } from "../api/client";
import { Button } from "../parts/Button";
import { words } from "../api/words";
import { Choice, options } from "../parts/Choice";
import { Field, Labelled, ListField, NumberField } from "../parts/Field";
import { limits, months } from "./kinds";

const aboutClients = (n: { name: string }) => n.name === "requests_per_second";
const commas = (t: string) => t.split(",").map((s) => s.trim()).filter(Boolean);

// The site's own rules: what it delivers, to whom, how much.
export function Rules(props: { site: string; document: Document; onChange: (part: Partial<Document>) => void }) {
  const { document: d, onChange } = props;
  const limit = (part: Partial<Document["limits"]>) => onChange({ limits: { ...d.limits, ...part } });
  const month = (part: Partial<Document["month"]>) => onChange({ month: { ...d.month, ...part } });
  return (
    <>
      <Group title="What it delivers">
        <Field label="Formats" value={d.formats.join(", ")} onChange={(t) => onChange({ formats: commas(t) as Document["formats"] })} hint="Of those that a client takes the smallest is sent, of equals the first" />
        <Labelled label="Effort for kept variants" hint="thorough: longer to make, fewer bytes; predicted: first answers are kept, quality is less exact">
          <Choice label="Effort" value={d.effort} options={options(words.Document.effort)} onChange={(effort) => onChange({ effort })} />
        </Labelled>
        <ListField label="Shapes" value={d.shapes} onChange={(shapes) => onChange({ shapes })} hint="Aspect ratios beside the natural one; none: any" />
        <div className="flex flex-col gap-2">
          <ListField
            label="Ladder"
            value={d.ladder.rungs.map(String)}
            onChange={(v) => onChange({ ladder: { ...d.ladder, rungs: v.map(Number).filter(Number.isInteger) } })}
            hint="Widths in device pixels; none: any"
          />
          <div className="flex flex-wrap gap-2">
            <Choice label="Other widths" value={d.ladder.other} options={options(words.Ladder.other)} onChange={(other) => onChange({ ladder: { ...d.ladder, other } })} />
            <Button onClick={() => void getLadder(props.site, 0, 0, 0).then((p) => onChange({ ladder: { ...d.ladder, rungs: p.rungs } }))}>Propose</Button>
          </div>
        </div>
        <Labelled label="May a URL ask for more pixels than the source has?">
          <Choice label="Grow" value={d.grow} options={options(words.Document.grow)} onChange={(grow) => onChange({ grow })} />
        </Labelled>
        <Labelled label="May a URL ask for paint?">
          <Choice label="Paint" value={d.paint} options={options(words.Document.paint)} onChange={(paint) => onChange({ paint })} />
        </Labelled>
        <ListField label="Host names of its own" value={d.hosts} onChange={(hosts) => onChange({ hosts })} />
      </Group>
      <Group title="To whom">
        <ListField label="Pages that may embed" value={d.pages.allow} onChange={(allow) => onChange({ pages: { ...d.pages, allow } })} hint="Origins, such as https://*.kestrel.test; none: every page" />
        <Labelled label="Requests that don't say their page">
          <Choice label="Silent requests" value={d.pages.silent} options={options(words.Pages.silent)} onChange={(silent) => onChange({ pages: { ...d.pages, silent } })} />
        </Labelled>
        <Labelled label="Unsigned requests may ask for">
          <Choice label="Unsigned" value={d.signing.unsigned} options={options(words.Signing.unsigned)} onChange={(unsigned) => onChange({ signing: { unsigned } })} />
        </Labelled>
        <Labelled label="Card values may come from">
          <Choice label="Cards" value={d.cards.values} options={options(words.Cards.values)} onChange={(values) => onChange({ cards: { ...d.cards, values } })} />
        </Labelled>
        {d.cards.values === "listed" && (
          <ListField label="Card values that anyone may give" value={d.cards.listed} onChange={(listed) => onChange({ cards: { ...d.cards, listed } })} hint="Such as data-status=sold out" />
        )}
        {limits.filter(aboutClients).map((n) => (
          <NumberField key={n.name} label={n.label} hint={n.hint} value={d.limits[n.name]} onChange={(v) => limit({ [n.name]: v })} />
        ))}
      </Group>
      <Group title="How much">
        {limits.filter((n) => !aboutClients(n)).map((n) => (
          <NumberField key={n.name} label={n.label} hint={n.hint} value={d.limits[n.name]} onChange={(v) => limit({ [n.name]: v })} />
        ))}
        {months.map((n) => (
          <NumberField key={n.name} label={n.label} hint={n.hint} value={d.month[n.name]} onChange={(v) => month({ [n.name]: v })} />
        ))}
      </Group>
    </>
  );
}

function Group({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section aria-label={title}>
      <h2 className="mb-2 font-semibold">{title}</h2>
      <div className="grid max-w-5xl gap-x-6 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">{children}</div>
    </section>
  );
}
