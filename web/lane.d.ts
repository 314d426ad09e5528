/** What a declaration may be given; undefined, null and false leave it out. */
export type Value = (string & {}) | number | boolean | null | undefined;
/** Declarations by their names, such as { "aspect-ratio": "3/2", quality: 72 }; made from core/declare. */
export interface Declarations {
  /** from-image or none */
  "image-orientation"?: "from-image" | "none" | Value;
  /** faces, or x,y,width,height in pixels, or percent: and the same in percent, or polygon(), several with a space between; and a colour to fill them with instead of a blur */
  redact?: Value;
  /** x,y,width,height in pixels, or percent: and the same in percent, or polygon(), several with a space between */
  erase?: Value;
  /** x,y,width,height in pixels, or percent: and the same in percent, such as 120,80,640,480; or faces, and how much room around them, such as faces 1.6; or subject, and how much of each side around it, such as subject 70% */
  xywh?: Value;
  /** 1 or -1 for each axis, such as -1 1 */
  scale?: Value;
  /** an angle, such as 90deg, -0.125turn, 50grad or 1.5rad */
  rotate?: Value;
  /** a length in CSS pixels from 1 to 65535, such as 480, 480px or 30rem, or auto */
  width?: Value;
  /** a length in CSS pixels from 1 to 65535, such as 320, 320px or 20rem, or auto */
  height?: Value;
  /** width/height or one number, such as 4/3 or 1.91, from 1/1000 to 1000 */
  "aspect-ratio"?: Value;
  /** 0.5x to 4x, such as 2x, 2dppx or 192dpi */
  resolution?: Value;
  /** fill, cover, contain, none or scale-down */
  "object-fit"?: "fill" | "cover" | "contain" | "none" | "scale-down" | Value;
  /** one to four values, such as left top, 75 20, 10px 50% or right 10px bottom 20px; or subject, faces or detail */
  "object-position"?: Value;
  /** no or yes */
  grow?: "no" | "yes" | Value;
  /** auto or pixelated */
  "image-rendering"?: "auto" | "pixelated" | Value;
  /** a CSS colour, such as gold, 0a7, rgb(10 120 110 / 0.5) or oklch(48% 0.09 185) */
  "background-color"?: Value;
  /** url(lane/path), a source of the same site; or linear-gradient(), radial-gradient() or conic-gradient(), also with repeating- before */
  "background-image"?: Value;
  /** one to four values, such as left top, 75 20 or right 10px bottom 20px */
  "background-position"?: Value;
  /** cover, contain, or one or two lengths, percentages or auto, such as 40px auto */
  "background-size"?: Value;
  /** repeat, no-repeat, space or round, for both axes or each; repeat-x or repeat-y */
  "background-repeat"?: Value;
  /** what filter takes, for what lies under the picture, or none */
  "backdrop-filter"?: Value;
  /** one of the sixteen modes, such as multiply: of the picture over its ground */
  "mix-blend-mode"?: "normal" | "multiply" | "screen" | "overlay" | "darken" | "lighten" | "color-dodge" | "color-burn" | "hard-light" | "soft-light" | "difference" | "exclusion" | "hue" | "saturation" | "color" | "luminosity" | Value;
  /** width, style and colour, such as 4px solid gold; the style is solid, dashed, dotted, double or none; four of these, top, right, bottom, left, with commas between, where sides differ */
  border?: Value;
  /** one to four lengths or percentages of the slot's width, such as 12px or 4% */
  padding?: Value;
  /** at most 8 shadows that fall inwards, such as inset 0 0 24px rgb(0 0 0 / 40%), or none */
  "box-shadow"?: Value;
  /** inset(), circle(), ellipse() or polygon(), such as circle(40% at 50% 50%), or none */
  "clip-path"?: Value;
  /** subject, which cuts out what the picture is of, or subject or-none; linear-gradient(), radial-gradient() or conic-gradient(), also with repeating- before, such as linear-gradient(black, transparent); url(lane/path), a source of the same site; or none */
  "mask-image"?: Value;
  /** match-source, alpha or luminance: what of a gradient or a picture counts */
  "mask-mode"?: "match-source" | "alpha" | "luminance" | Value;
  /** one to four values, as of background-position: where a mask's picture lies */
  "mask-position"?: Value;
  /** cover, contain, or one or two lengths, percentages or auto: of a mask's picture */
  "mask-size"?: Value;
  /** repeat, no-repeat, space or round, for both axes or each; repeat-x or repeat-y */
  "mask-repeat"?: Value;
  /** two to eight colours from dark to light, and a percentage, such as 123 fed 80% */
  "gradient-map"?: Value;
  /** a number from 0 to 3, such as 1 */
  sharpen?: Value;
  /** url(lane/path) or a text in quotes, at most 500 characters */
  "before-content"?: Value;
  /** a length, a percentage of the slot, or auto, such as 18% */
  "before-width"?: Value;
  /** a length, a percentage of the slot, or auto */
  "before-height"?: Value;
  /** one to four lengths, percentages or auto: top, right, bottom, left, such as auto 4% 4% auto */
  "before-inset"?: Value;
  /** a number from 0 to 1 or a percentage */
  "before-opacity"?: Value;
  /** one of the sixteen modes, such as multiply */
  "before-mix-blend-mode"?: "normal" | "multiply" | "screen" | "overlay" | "darken" | "lighten" | "color-dodge" | "color-burn" | "hard-light" | "soft-light" | "difference" | "exclusion" | "hue" | "saturation" | "color" | "luminosity" | Value;
  /** an angle, such as -12deg */
  "before-rotate"?: Value;
  /** a CSS colour */
  "before-color"?: Value;
  /** style, weight, size and family, such as bold 24px sans-serif */
  "before-font"?: Value;
  /** left, center or right */
  "before-text-align"?: "left" | "center" | "right" | Value;
  /** a CSS colour */
  "before-background-color"?: Value;
  /** one to four lengths or percentages, such as 4px 8px */
  "before-padding"?: Value;
  /** url(lane/path) or a text in quotes, at most 500 characters */
  "after-content"?: Value;
  /** a length, a percentage of the slot, or auto, such as 18% */
  "after-width"?: Value;
  /** a length, a percentage of the slot, or auto */
  "after-height"?: Value;
  /** one to four lengths, percentages or auto: top, right, bottom, left, such as auto 4% 4% auto */
  "after-inset"?: Value;
  /** a number from 0 to 1 or a percentage */
  "after-opacity"?: Value;
  /** one of the sixteen modes, such as multiply */
  "after-mix-blend-mode"?: "normal" | "multiply" | "screen" | "overlay" | "darken" | "lighten" | "color-dodge" | "color-burn" | "hard-light" | "soft-light" | "difference" | "exclusion" | "hue" | "saturation" | "color" | "luminosity" | Value;
  /** an angle, such as -12deg */
  "after-rotate"?: Value;
  /** a CSS colour */
  "after-color"?: Value;
  /** style, weight, size and family, such as bold 24px sans-serif */
  "after-font"?: Value;
  /** left, center or right */
  "after-text-align"?: "left" | "center" | "right" | Value;
  /** a CSS colour */
  "after-background-color"?: Value;
  /** one to four lengths or percentages, such as 4px 8px */
  "after-padding"?: Value;
  /** one to four lengths or percentages, such as 12px or 50% */
  "border-radius"?: Value;
  /** at most 16 of blur() brightness() contrast() grayscale() hue-rotate() invert() opacity() saturate() sepia() drop-shadow(), or none */
  filter?: Value;
  /** a number from 0 to 1 or a percentage, such as .6 or 60% */
  opacity?: Value;
  /** a CSS colour, such as white or 0a7 */
  matte?: Value;
  /** avif, jxl, webp, jpeg, png or gif */
  format?: "avif" | "jxl" | "webp" | "jpeg" | "png" | "gif" | Value;
  /** a whole number from 1 to 100, or lossless */
  quality?: Value;
  /** bytes, from 100 to 100000000, such as 60kB, 60KiB or 61440 */
  budget?: Value;
  /** none; in a sheet, @keyframes by their name, and duration, easing, delay, count, direction and fill, such as drift 4s ease-in-out infinite alternate */
  animation?: Value;
  /** one or more of rights, camera and place */
  retain?: Value;
  /** at most eight names from the site's sheet, divided by spaces */
  class?: Value;
  /** data-title and other names that the class's layers take: a text of at most 500 characters, a number, or lane/path */
  [name: `data-${string}`]: Value;
  /** placeholder, facts or explain */
  as?: "facts" | "explain" | "placeholder" | Value;
  /** a file name of at most 200 bytes without slashes, or nothing */
  download?: Value;
  /** the digest of the source, as facts give it: 24 characters of base64url */
  digest?: Value;
  /** a time as RFC 3339 has it, in whole seconds and UTC, such as 2027-05-01T12:00:00Z */
  expires?: Value;
  /** a key's name: 1 to 64 of a–z, 0–9 and - */
  keyid?: Value;
  /** 43 characters of base64url, as signing gives them */
  signature?: Value;
}
// The end of what is made: go generate ./core/declare.
/** "lane/folder/picture.jpg"; of a web lane ["lane", "https://…"]. */
export type Source = string | readonly string[];

/** The names of the language, in the order of the address form. */
export const names: readonly string[];
/** Declarations as the address form has them. Throws a TypeError for a name that isn't in the language, and for a size, density, ratio or opacity that isn't a number. */
export function query(declarations?: Declarations | string): string;
/** A source as a URL has it. */
export function path(source: Source): string;
/** The address of a variant. base is where the site's images are, such as https://img.example.test/kestrel. */
export function image(base: string, source: Source, declarations?: Declarations | string): string;
/** Signs an address with one of the site's keys. For servers alone. */
export function sign(address: string, key: { keyid: string; secret: string }): Promise<string>;
/** Widths from least to most, each so many times the one before. */
export function steps(least?: number, most?: number, times?: number): number[];
/** What an <img> wants for a slot: CSS pixels, or a text for sizes. */
export function set(
  base: string,
  source: Source,
  slot: number | string,
  options?: { declarations?: Declarations | string; widths?: number[]; natural?: number },
): { src: string; srcset: string; sizes: string | undefined };
/** Gives address(source, width, quality) for the images of one place. */
export function addresses(base: string, declarations?: Declarations | string): (source: Source, width: number, quality?: number) => string;
