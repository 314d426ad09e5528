import type { AnchorHTMLAttributes } from "react";
import { go } from "../frame/address";

// A link to another view of the console. With a key held down it opens as links do.
export function Link({ href, ...rest }: AnchorHTMLAttributes<HTMLAnchorElement> & { href: string }) {
  return (
    <a
      href={href}
      onClick={(e) => {
        if (e.metaKey || e.ctrlKey || e.shiftKey) return;
        e.preventDefault();
        go(href);
      }}
      {...rest}
    />
  );
}
