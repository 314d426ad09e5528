// The address form, written. What lane.js gives on, in a module of its own so that the element loads no more.

const finite = (v, what = v) => {
  const n = v === "" ? NaN : Number(v);
  if (!Number.isFinite(n)) throw new TypeError(`${what} isn't a number`);
  return n;
};
const number = (v) => String(+finite(v).toFixed(12)).replace(/^-0$/, "0");
const divisor = (a, b) => (b ? divisor(b, a % b) : a);
const px = (v) => number(v.replace(/px$/i, ""));
const dppx = (v) => number(v.replace(/(dpp)?x$/i, "")) + "x";
const alpha = (v) => (v.endsWith("%") ? number(finite(v.slice(0, -1), v) / 100) : number(v));
const level = (v) => (/^lossless$/i.test(v) ? "lossless" : number(v));
const classes = (v) => [...new Set(v.split(/\s+/).filter(Boolean))].sort().join(" ");
const verbatim = (v) => v;
const ratio = (v) => {
  let [w, h = 1] = v.split("/").map((side) => finite(side.trim(), v));
  if (Number.isInteger(w) && Number.isInteger(h)) {
    const d = divisor(w, h);
    w /= d;
    h /= d;
  }
  return h === 1 ? number(w) : `${number(w)}/${number(h)}`;
};

/** The names of the language, in the order of the address form; made from core/declare. */
export const names = (
  "image-orientation redact erase xywh scale rotate width height aspect-ratio resolution object-fit object-position grow " +
  "image-rendering background-color background-image background-position background-size background-repeat backdrop-filter " +
  "mix-blend-mode border padding box-shadow clip-path mask-image mask-mode mask-position mask-size mask-repeat gradient-map sharpen " +
  "before-content before-width before-height before-inset before-opacity before-mix-blend-mode before-rotate before-color " +
  "before-font before-text-align before-background-color before-padding after-content after-width after-height after-inset " +
  "after-opacity after-mix-blend-mode after-rotate after-color after-font after-text-align after-background-color after-padding " +
  "border-radius filter opacity matte format quality budget animation retain class data-* as download digest expires keyid signature"
).split(" ");

// How values are spelled. What isn't here is written in lower case.
const spell = {
  width: px,
  height: px,
  "aspect-ratio": ratio,
  resolution: dppx,
  "background-image": verbatim,
  "mask-image": verbatim,
  sharpen: number,
  "before-content": verbatim,
  "before-opacity": alpha,
  "after-content": verbatim,
  "after-opacity": alpha,
  opacity: alpha,
  quality: level,
  class: classes,
  "data-*": verbatim,
  download: verbatim,
  digest: verbatim,
  expires: verbatim,
  keyid: verbatim,
  signature: verbatim,
};
// The end of what is made: go generate ./core/declare. What isn't spelled goes through as it is: write it as `echolane link` does.

// What cards show is named as HTML names data: data-title.
const isData = (name) => /^data-[a-z0-9_-]+$/.test(name);

const escaped = (v) => encodeURIComponent(v).replace(/%(2F|2C|3A)/g, decodeURIComponent);

const spelled = (name, value) => {
  try {
    return (spell[name] ?? ((v) => v.toLowerCase()))(String(value).trim());
  } catch (e) {
    throw new TypeError(`${name}: ${e.message}`);
  }
};

/** query writes declarations, an object or a query string, as the address form has them, without the question mark. */
export function query(declarations) {
  const given = typeof declarations === "string" ? new URLSearchParams(declarations) : Object.entries(declarations ?? {});
  const values = new Map();
  for (const [name, value] of given) {
    const known = name.toLowerCase();
    if (!names.includes(known) && !isData(known)) throw new TypeError(`there is no declaration named ${name}`);
    if (value !== undefined && value !== null && value !== false) values.set(known, isData(known) ? String(value).trim() : spelled(known, value));
  }
  const data = [...values.keys()].filter(isData).sort();
  return names
    .flatMap((n) => (n === "data-*" ? data : n))
    .filter((n) => values.has(n))
    .map((n) => `${n}=${escaped(values.get(n))}`)
    .join("&");
}

/** path writes a source, "lane/folder/picture.jpg", as a URL has it. A web lane's source is ["lane", "https://…"]. */
export const path = (source) => (Array.isArray(source) ? source : source.split("/")).map((s) => encodeURIComponent(s)).join("/");

/** image is the address of a variant. base is where the site's images are, such as https://img.example.test/kestrel. */
export function image(base, source, declarations) {
  const q = query(declarations);
  return `${base.replace(/\/$/, "")}/${path(source)}${q && "?" + q}`;
}

/** steps are widths from least to most, each so many times the one before, in round numbers. */
export function steps(least = 160, most = 3840, times = 1.3) {
  const list = [];
  for (let w = least; w < most; w *= times) list.push(Math.ceil(w / 16) * 16);
  return [...new Set([...list, most])];
}
