// Figures as the command line writes them too.
export function bytesText(n: number): string {
  if (n < 1000) return `${n} B`;
  if (n < 99_950) return `${(n / 1e3).toFixed(1)} kB`;
  if (n < 999_500) return `${(n / 1e3).toFixed(0)} kB`;
  if (n < 999_500_000) return `${(n / 1e6).toFixed(2)} MB`;
  return `${(n / 1e9).toFixed(2)} GB`;
}

// countText writes a number in groups of three: 12 345.
export function countText(n: number): string {
  return String(Math.round(n)).replace(/\B(?=(\d{3})+$)/g, "\u202f");
}

// manyText says how many there are of something: 1 variant, 412 variants.
export function manyText(n: number, what: string): string {
  return `${countText(n)} ${what}${n === 1 ? "" : "s"}`;
}

export function partText(part: number, of: number): string {
  return of > 0 ? `${((100 * part) / of).toFixed(1)} %` : "–";
}

// lengthText writes how long something takes: 42 s, 3 min 20 s, 2 h 5 min.
export function lengthText(seconds: number): string {
  const s = Math.round(seconds);
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`;
  return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
}

export function pixelsText(w: number, h: number): string {
  return `${w} × ${h}`;
}

export function msText(ms: number): string {
  return ms < 10 ? `${ms.toFixed(1)} ms` : `${Math.round(ms)} ms`;
}

export function savedText(before: number, after: number): string {
  const p = 100 * (after / before - 1);
  return `${p > 0 ? "+" : "−"}${Math.abs(p).toFixed(1)} %`;
}

export function whenText(at: string): string {
  const d = new Date(at);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}`;
}
