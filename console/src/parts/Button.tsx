import type { ButtonHTMLAttributes } from "react";

// Every button that does something. The one that a view is for is filled; the one that destroys is marked.
export function Button({ kind = "plain", className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: "plain" | "main" | "danger" }) {
  const look = {
    plain: "border-edge hover:bg-panel",
    main: "border-accent bg-accent text-on-accent",
    danger: "border-trouble text-trouble hover:bg-panel",
  }[kind];
  return <button type="button" {...rest} className={`border px-2.5 py-1 whitespace-nowrap disabled:cursor-not-allowed disabled:opacity-50 ${look} ${className}`} />;
}
