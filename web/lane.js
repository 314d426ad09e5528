// Addresses of Echo Lane images: written the one way that is signed and cached, signed, and in sets for srcset.
// No dependencies; runs in browsers and on servers.
import { image, query, steps } from "./address.js";

export { image, names, path, query, steps } from "./address.js";

/** sign signs an address with one of the site's keys. For servers: whoever has the secret can sign anything. */
export async function sign(address, { keyid, secret }) {
  const at = address.indexOf("://") < 0 ? 0 : address.indexOf("/", address.indexOf("://") + 3);
  const [where, q = ""] = address.slice(at).split("?");
  const form = `${where}?${query(`${q}${q && "&"}keyid=${encodeURIComponent(keyid)}`)}`;
  const bytes = (s) => Uint8Array.from(atob(s.replaceAll("-", "+").replaceAll("_", "/")), (c) => c.charCodeAt(0));
  const key = await crypto.subtle.importKey("raw", bytes(secret), { name: "HMAC", hash: "SHA-256" }, false, ["sign"]);
  const mac = new Uint8Array(await crypto.subtle.sign("HMAC", key, new TextEncoder().encode(form)));
  const signature = btoa(String.fromCharCode(...mac)).replaceAll("+", "-").replaceAll("/", "_").replaceAll("=", "");
  return `${address.slice(0, at)}${form}&signature=${signature}`;
}

/**
 * set is what an <img> wants for a slot: { src, srcset, sizes }. A slot is a number of CSS pixels, which gives
 * densities, or a text for `sizes`, which gives widths. natural is the source's width, above which nothing is asked for.
 */
export function set(base, source, slot, { declarations, widths, natural = Infinity } = {}) {
  const d = typeof declarations === "string" ? Object.fromEntries(new URLSearchParams(declarations)) : { ...declarations };
  if (typeof slot === "number") {
    const list = [1, 2, 3].filter((x) => x === 1 || slot * x <= natural);
    const at = (x) => image(base, source, { ...d, width: slot, resolution: x === 1 ? undefined : x });
    return { src: at(1), srcset: list.map((x) => `${at(x)} ${x}x`).join(", "), sizes: undefined };
  }
  const fit = (widths ?? steps()).filter((w, i) => i === 0 || w <= natural);
  const at = (w) => image(base, source, { ...d, width: w });
  return { src: at(fit[fit.length >> 1]), srcset: fit.map((w) => `${at(w)} ${w}w`).join(", "), sizes: slot };
}

/**
 * addresses gives address(source, width, quality) for the images of one place. declarations hold for all of them; without a
 * quality the site's holds.
 */
export const addresses = (base, declarations) => {
  const d = typeof declarations === "string" ? Object.fromEntries(new URLSearchParams(declarations)) : { ...declarations };
  return (source, width, quality) => image(base, typeof source === "string" ? source.replace(/^\//, "") : source, { ...d, width, ...(quality !== undefined && { quality }) });
};
