import { useEffect, useState } from "react";

// The image's URL, to be taken away.
export function CopyAddress({ address }: { address: string }) {
  const [copied, setCopied] = useState(false);
  useEffect(() => setCopied(false), [address]);
  const whole = location.origin + address;
  return (
    <div className="flex items-center gap-2 border-b border-line px-4 py-2">
      <a href={address} target="_blank" rel="noreferrer" title="Open the image alone" className="figures min-w-0 flex-1 truncate text-sm hover:underline" data-testid="address">
        {whole}
      </a>
      <button
        type="button"
        onClick={() => navigator.clipboard.writeText(whole).then(() => setCopied(true))}
        className="shrink-0 border border-edge px-2.5 py-1 hover:bg-panel"
      >
        {copied ? "Copied" : "Copy URL"}
      </button>
      <span role="status" className="sr-only">
        {copied ? "The URL is on the clipboard" : ""}
      </span>
    </div>
  );
}
