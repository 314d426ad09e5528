// Runs before the page does: what is painted largest, what jumps, and what tells each image apart.
(() => {
  // An image is told apart by what stands in the page, whatever scripts make of it, and in a rewritten page by what stood there.
  const names = ["src", "srcset", "data-src"];
  const tags = new WeakMap();
  const keep = (e) => tags.has(e) || tags.set(e, names.map((n) => e.getAttribute(n) ?? ""));
  new MutationObserver((list) => {
    for (const m of list)
      for (const n of m.addedNodes) {
        if (n.localName === "img") keep(n);
        for (const e of n.querySelectorAll?.("img") ?? []) keep(e);
      }
  }).observe(document, { childList: true, subtree: true });
  // What stands in the page itself may be megabytes: two ends and a length tell it apart.
  const brief = (v) => (v.length > 2048 ? v.slice(0, 1000) + v.length + v.slice(-1000) : v);
  globalThis.__laneKey = (e) => {
    const was = e.getAttribute("data-was");
    const t = document.createElement("template");
    if (was) t.innerHTML = was;
    const stood = t.content?.firstElementChild;
    const values = stood ? names.map((n) => stood.getAttribute(n) ?? "") : (tags.get(e) ?? names.map((n) => e.getAttribute(n) ?? ""));
    return values.map(brief).join("\n");
  };
  const name = (e) => {
    if (!e || e.nodeType !== 1) return e?.parentElement ? name(e.parentElement) : "";
    const c = e.classList.length ? "." + [...e.classList].slice(0, 2).join(".") : "";
    return e.localName + (e.id ? "#" + e.id : c);
  };
  const seen = { content_ms: 0, content: "", content_url: "", content_area: 0, shift: 0, shifts: {} };
  globalThis.__laneSeen = seen;
  try {
    new PerformanceObserver((list) => {
      for (const e of list.getEntries()) {
        seen.content_ms = e.startTime;
        seen.content_area = e.size;
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
