import { useState } from "react";
import { Button } from "./Button";
import { Window } from "./Window";

// A secret that is shown this once.
export function Once(props: { title: string; secret: string | undefined; onClose: () => void }) {
  const [copied, setCopied] = useState(false);
  return (
    <Window title={props.title} open={props.secret !== undefined} onClose={props.onClose}>
      <p>Copy it now: it isn't shown again.</p>
      <code data-testid="secret" className="figures bg-panel p-2 break-all select-all">
        {props.secret}
      </code>
      <div className="flex justify-end gap-2">
        <Button onClick={() => navigator.clipboard.writeText(props.secret ?? "").then(() => setCopied(true))}>{copied ? "Copied" : "Copy"}</Button>
        <Button kind="main" onClick={props.onClose}>
          Done
        </Button>
      </div>
    </Window>
  );
}
