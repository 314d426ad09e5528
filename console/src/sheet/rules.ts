// Changes to a sheet's text that keep all that isn't changed as it was written.
import { cssLanguage } from "@codemirror/lang-css";

interface Block {
  from: number; // behind the opening brace
  to: number; // at the closing one
  declarations: { name: string; from: number; to: number }[]; // to lies behind the semicolon
}

// said gives the text with declarations set in the rule for one layer of pictures with exactly these classes, and with others dropped
// from it. A rule that isn't there, or that holds for others too, is added at the end.
export function said(text: string, classes: string[], layer: string, set: Record<string, string>, drop: string[]): string {
  const own = ruleOf(text, classes, layer);
  if (!own) {
    const body = Object.entries(set).map(([name, value]) => `${name}: ${value}`).join("; ");
    return text.replace(/\s*$/, "\n") + `${classes.map((c) => "." + c).join("") || "*"}${layer} { ${body} }\n`;
  }
  const edits: { from: number; to: number; text: string }[] = [];
  const left = new Map(Object.entries(set));
  for (const d of own.declarations) {
    const value = left.get(d.name);
    if (value !== undefined) {
      edits.push({ from: d.from, to: d.to, text: `${d.name}: ${value};` });
      left.delete(d.name);
    } else if (d.name in set || drop.includes(d.name)) {
      const gap = /\s*$/.exec(text.slice(own.from, d.from))![0].length;
      edits.push({ from: d.from - gap, to: d.to, text: "" });
    }
  }
  const body = text.slice(own.from, own.to);
  const end = own.from + body.trimEnd().length;
  const line = body.includes("\n") ? "\n  " : " ";
  const open = end > own.from && !/[;{]$/.test(text.slice(0, end)) && !edits.some((e) => e.to === end) ? ";" : "";
  const more = [...left].map(([name, value]) => `${line}${name}: ${value};`).join("");
  if (more) edits.push({ from: end, to: end, text: open + more });
  let out = text;
  for (const e of edits.sort((a, b) => b.from - a.from || b.to - a.to)) out = out.slice(0, e.from) + e.text + out.slice(e.to);
  return out;
}

// ruleOf finds the last rule that is for these classes and this layer alone.
function ruleOf(text: string, classes: string[], layer: string): Block | undefined {
  const wanted = [...classes].sort().join(" ");
  let found: Block | undefined;
  for (let rule = cssLanguage.parser.parse(text).topNode.firstChild; rule; rule = rule.nextSibling) {
    const block = rule.name === "RuleSet" ? rule.getChild("Block") : null;
    if (!block) continue;
    const selector = text.slice(rule.from, block.from).replace(/\/\*.*?\*\//gs, "").trim();
    const parts = /^(\*|(?:\.[\w-]+)*)(::?[\w-]+(?:\([^)]*\))?)$/.exec(selector.replace(/\s+/g, ""));
    if (!parts) continue;
    const names = parts[1] === "*" ? "" : parts[1]!.split(".").filter(Boolean).sort().join(" ");
    if (names !== wanted || parts[2]!.replace(/^:(?!:)/, "::") !== layer) continue;
    const declarations = block.getChildren("Declaration").map((d) => ({
      name: text.slice(d.firstChild!.from, d.firstChild!.to).toLowerCase(),
      from: d.from,
      to: d.to + (/^\s*;/.exec(text.slice(d.to))?.[0].length ?? 0),
    }));
    found = { from: block.from + 1, to: text[block.to - 1] === "}" ? block.to - 1 : block.to, declarations };
  }
  return found;
}
