// Tries what would keep each picture's place free before it has come, and changes nothing else. Everything is put back. Each try lays
// the page out again, so that on a very long one the pictures further down are left out.
(() => {
  const end = performance.now() + 4000;
  const same = (a, b) => Math.abs(a.width - b.width) < 0.6 && Math.abs(a.height - b.height) < 0.6;
  const out = [];
  const images = [...document.images].slice(0, 400);
  for (const e of images) {
    if (performance.now() > end) break;
    if (!e.naturalWidth || !e.complete) {
      out.push({ sized: true, sizing: "" });
      continue;
    }
    const loaded = e.getBoundingClientRect();
    const had = { src: e.getAttribute("src"), srcset: e.getAttribute("srcset"), style: e.getAttribute("style"), width: e.getAttribute("width"), height: e.getAttribute("height"), alt: e.getAttribute("alt") };
    const put = (name, v) => (v === null || v === undefined ? e.removeAttribute(name) : e.setAttribute(name, v));
    // A stand-in of no pixels shows what the box is without the picture.
    const stand = document.createElement("img");
    for (const a of e.attributes) if (!["src", "srcset", "sizes", "loading", "id", "onload", "onerror"].includes(a.name)) stand.setAttribute(a.name, a.value);
    stand.setAttribute("src", "data:image/svg+xml,%3Csvg xmlns='http://www.w3.org/2000/svg' width='0' height='0'/%3E");
    const parent = e.parentNode;
    const boxWith = (change) => {
      const copy = stand.cloneNode(false);
      copy.removeAttribute("src");
      copy.setAttribute("alt", "");
      change(copy);
      parent.replaceChild(copy, e);
      const r = copy.getBoundingClientRect();
      parent.replaceChild(e, copy);
      return r;
    };
    const withPicture = (change) => {
      change(e);
      const r = e.getBoundingClientRect();
      put("style", had.style);
      put("width", had.width);
      put("height", had.height);
      return r;
    };
    const sized = same(boxWith(() => {}), loaded);
    let sizing = "";
    if (!sized) {
      const ways = {
        attributes: (x) => {
          x.setAttribute("width", e.naturalWidth);
          x.setAttribute("height", e.naturalHeight);
        },
        "height-auto": (x) => {
          x.setAttribute("width", e.naturalWidth);
          x.setAttribute("height", e.naturalHeight);
          x.style.height = "auto";
        },
        ratio: (x) => {
          x.style.aspectRatio = `${e.naturalWidth} / ${e.naturalHeight}`;
        },
      };
      for (const [name, way] of Object.entries(ways)) {
        if (same(withPicture(way), loaded) && same(boxWith(way), loaded)) {
          sizing = name;
          break;
        }
      }
    }
    out.push({ sized, sizing });
  }
  return out;
})();
