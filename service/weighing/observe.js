// Runs before the page does: what is painted largest, and what jumps.
(() => {
  const name = (e) => {
    if (!e || e.nodeType !== 1) return e?.parentElement ? name(e.parentElement) : "";
    const c = e.classList.length ? "." + [...e.classList].slice(0, 2).join(".") : "";
    return e.localName + (e.id ? "#" + e.id : c);
  };
  const seen = { content_ms: 0, content: "", content_url: "", shift: 0, shifts: {} };
  globalThis.__laneSeen = seen;
  try {
    new PerformanceObserver((list) => {
      for (const e of list.getEntries()) {
        seen.content_ms = e.startTime;
        seen.content = name(e.element);
        seen.content_url = e.url ?? "";
      }
    }).observe({ type: "largest-contentful-paint", buffered: true });
    let first = 0;
    let last = 0;
    let window = 0;
    new PerformanceObserver((list) => {
      for (const e of list.getEntries()) {
        if (e.hadRecentInput) continue;
        if (e.startTime - last > 1000 || e.startTime - first > 5000) {
          first = e.startTime;
          window = 0;
        }
        last = e.startTime;
        window += e.value;
        seen.shift = Math.max(seen.shift, window);
        for (const s of e.sources ?? []) {
          const n = name(s.node) || "?";
          seen.shifts[n] = (seen.shifts[n] ?? 0) + e.value;
        }
      }
    }).observe({ type: "layout-shift", buffered: true });
  } catch {
    // an old browser sees neither
  }
})();
