// Runs in the page that is weighed. Everything is read; what is tried is put back.
(() => {
  const images = [];
  const seen = new Set();
  // Which of its parent's children of its name an element is, and how many there are: a page may have very many in a row.
  const nth = new Map();
  const named = new Map();
  const place = (e) => {
    const parent = e.parentElement;
    if (!parent) return [1, 1];
    if (!named.has(parent)) {
      const counts = new Map();
      for (let c = parent.firstElementChild; c; c = c.nextElementSibling) {
        counts.set(c.localName, (counts.get(c.localName) ?? 0) + 1);
        nth.set(c, counts.get(c.localName));
      }
      named.set(parent, counts);
    }
    return [nth.get(e), named.get(parent).get(e.localName)];
  };
  const path = (e) => {
    const parts = [];
    for (let at = e; at && at.nodeType === 1 && at !== document.documentElement; at = at.parentElement) {
      let name = at.localName;
      if (at.id) {
        parts.unshift(name + "#" + CSS.escape(at.id));
        break;
      }
      const [which, of] = place(at);
      if (of > 1) name += `:nth-of-type(${which})`;
      parts.unshift(name);
    }
    return parts.slice(-5).join(" > ");
  };
  const boxOf = (e) => {
    const r = e.getBoundingClientRect();
    return { x: r.left + scrollX, y: r.top + scrollY, w: r.width, h: r.height };
  };
  const content = (e, style) => {
    const b = boxOf(e);
    const px = (n) => parseFloat(style[n]) || 0;
    return {
      ...b,
      w: Math.max(0, b.w - px("paddingLeft") - px("paddingRight") - px("borderLeftWidth") - px("borderRightWidth")),
      h: Math.max(0, b.h - px("paddingTop") - px("paddingBottom") - px("borderTopWidth") - px("borderBottomWidth")),
    };
  };
  // What stands in the page itself may be megabytes: two ends and a length tell it apart.
  const brief = (v) => (v.length > 2048 ? v.slice(0, 1000) + v.length + v.slice(-1000) : v);
  const counts = {};
  const add = (e, kind, url, more) => {
    if (images.length >= 2000) return;
    images.push({ kind, url: url.startsWith("data:") ? url.slice(0, 64) : url, chars: url.length, element: path(e), ...more });
  };
  for (const e of document.images) {
    const style = getComputedStyle(e);
    const box = content(e, style);
    const key = globalThis.__laneKey(e);
    counts[key] = (counts[key] ?? 0) + 1;
    add(e, e.parentElement?.localName === "picture" ? "picture" : "img", e.currentSrc, {
      ...box,
      key,
      nth: counts[key] - 1,
      natural_w: e.naturalWidth,
      natural_h: e.naturalHeight,
      fit: style.objectFit,
      position: style.objectPosition,
      src: brief(e.getAttribute("src") ?? ""),
      srcset: brief(e.getAttribute("srcset") ?? ""),
      sizes: e.getAttribute("sizes") ?? "",
      alt: e.getAttribute("alt"),
      lazy: e.loading === "lazy",
      complete: e.complete,
      visible: box.w > 1 && box.h > 1 && style.visibility !== "hidden" && style.opacity !== "0",
    });
  }
  const all = document.querySelectorAll("*");
  const most = Math.min(all.length, 20000);
  for (let i = 0; i < most; i++) {
    const e = all[i];
    if (e.localName === "video" && e.poster) {
      const style = getComputedStyle(e);
      add(e, "poster", e.poster, { ...content(e, style), natural_w: 0, natural_h: 0, fit: "contain", position: style.objectPosition, visible: true });
    }
    for (const pseudo of [null, "::before", "::after"]) {
      const style = getComputedStyle(e, pseudo);
      const list = style.backgroundImage;
      if (!list || list === "none") continue;
      for (const m of list.matchAll(/url\("((?:[^"\\]|\\.)*)"\)/g)) {
        const url = m[1].replace(/\\(.)/g, "$1");
        const box = boxOf(e);
        const size = style.backgroundSize.split(",")[0].trim();
        const id = url + path(e) + pseudo;
        if (seen.has(id)) continue;
        seen.add(id);
        add(e, "background", url, {
          ...box,
          element: path(e) + (pseudo ?? ""),
          natural_w: 0,
          natural_h: 0,
          fit: size === "cover" ? "cover" : "contain",
          size,
          position: style.backgroundPosition.split(",")[0].trim(),
          visible: box.w > 1 && box.h > 1,
        });
      }
    }
  }
  return {
    title: document.title,
    base: document.baseURI,
    height: Math.round(document.documentElement.scrollHeight),
    truncated: all.length > most || images.length >= 2000,
    images,
    lane: globalThis.__laneSeen ?? null,
    load: performance.timing.loadEventEnd > 0 ? performance.timing.loadEventEnd - performance.timing.navigationStart : 0,
  };
})();
