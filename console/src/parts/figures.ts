// Figures as the command line writes them too.
export function bytesText(n: number): string {
  if (n < 1000) return `${n} B`;
  if (n < 99_950) return `${(n / 1e3).toFixed(1)} kB`;
  if (n < 999_500) return `${(n / 1e3).toFixed(0)} kB`;
  return `${(n / 1e6).toFixed(2)} MB`;
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
