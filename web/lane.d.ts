/** Declarations by their names, such as { "aspect-ratio": "3/2", quality: 72 }. */
export type Declarations = Record<string, string | number | boolean | null | undefined>;
/** "lane/folder/picture.jpg"; of a web lane ["lane", "https://…"]. */
export type Source = string | readonly string[];

/** The names of the language, in the order of the address form. */
export const names: readonly string[];
/** Declarations as the address form has them. Throws a TypeError for a name that isn't in the language. */
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
/** The function that image components of web frameworks take. */
export function adapter(
  base: string,
  declarations?: Declarations,
): { (source: string, width: number, quality?: number): string; (ask: { src: string; width: number; quality?: number }): string };
