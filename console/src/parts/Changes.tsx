import type { Difference, Trouble } from "../api/client";

// What a change does, setting by setting, and what it opens wider than most would want.
export function Changes(props: { changes: Difference[]; warnings: Trouble[] }) {
  return (
    <>
      {props.changes.length === 0 && <p>Nothing changes.</p>}
      <dl className="figures grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1 text-sm">
        {props.changes.map((c) => (
          <div key={c.path} className="contents">
            <dt className="text-soft">{c.path}</dt>
            <dd className="break-words">
              {c.before && <del className="text-trouble">{c.before}</del>} {c.after && <ins className="text-accent no-underline">{c.after}</ins>}
            </dd>
          </div>
        ))}
      </dl>
      <Warnings warnings={props.warnings} />
    </>
  );
}

export function Warnings({ warnings }: { warnings: Trouble[] }) {
  if (warnings.length === 0) return null;
  return (
    <ul aria-label="Warnings" className="border-l-2 border-trouble pl-3 text-sm">
      {warnings.map((w) => (
        <li key={w.path}>
          <span className="figures">{w.given}</span>: {w.detail} <span className="text-soft">({w.path})</span>
        </li>
      ))}
    </ul>
  );
}
