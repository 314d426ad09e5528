import { Problem } from "../api/client";

// What went wrong and the way out, in the service's own words.
export function Trouble({ error }: { error: Error }) {
  const p = error instanceof Problem ? error.details : undefined;
  return (
    <div role="alert" className="max-w-prose border-l-2 border-trouble pl-3">
      <p className="font-semibold text-trouble">{p?.title ?? "That didn't work"}</p>
      <p>{p?.detail ?? error.message}</p>
      {p?.allowed && <p className="text-soft">Allowed: {p.allowed}</p>}
      {p?.remedy && <p>Way out: {p.remedy}</p>}
    </div>
  );
}
