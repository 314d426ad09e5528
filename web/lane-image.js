// <lane-image>: a picture that measures its place and asks for what fits. See README.md.
import { image, steps } from "./address.js";

const fade = 150;

class LaneImage extends HTMLElement {
  static observedAttributes = ["base", "source", "declarations", "natural", "rungs"];
  #img;
  #size;
  #near;
  #timer;
  #asked = 0;
  #seen = false;

  connectedCallback() {
    // The picture that is there before and without this script goes on being the picture: its alt, its size, its handlers.
    this.#img = this.querySelector("img") ?? this.appendChild(Object.assign(document.createElement("img"), { alt: this.getAttribute("alt") ?? "" }));
    const ratio = /(?:^|&)aspect-ratio=([\d.]+)(?:%2F|\/)?([\d.]*)/i.exec(this.getAttribute("declarations") ?? "");
    if (ratio) this.style.aspectRatio = `${ratio[1]} / ${ratio[2] || 1}`;
    else if (this.#img.width && this.#img.height && this.#img.hasAttribute("height")) this.style.aspectRatio = `${this.#img.getAttribute("width")} / ${this.#img.getAttribute("height")}`;
    if (this.#img.complete && this.#img.naturalWidth) this.setAttribute("loaded", "");
    else if (this.hasAttribute("placeholder")) this.style.setProperty("--lane-placeholder", `url("${this.getAttribute("placeholder")}")`);
    this.#img.addEventListener("load", this.#loaded);
    this.#size = new ResizeObserver(() => {
      clearTimeout(this.#timer);
      this.#timer = setTimeout(this.#ask, this.#asked ? 200 : 0);
    });
    this.#size.observe(this);
    this.#watch();
    if (this.getAttribute("loading") === "eager") this.#show();
    else {
      this.#near = new IntersectionObserver((list) => list.some((e) => e.isIntersecting) && this.#show(), { rootMargin: "400px" });
      this.#near.observe(this);
    }
  }

  disconnectedCallback() {
    this.#size?.disconnect();
    this.#near?.disconnect();
    clearTimeout(this.#timer);
    this.#img?.removeEventListener("load", this.#loaded);
    this.#seen = false;
    this.#asked = 0;
  }

  attributeChangedCallback(_, before, now) {
    if (!this.#img || before === now || before === null) return;
    this.#asked = 0; // another picture
    this.#ask();
  }

  #show() {
    this.#seen = true;
    this.#near?.disconnect();
    this.#ask();
  }

  // The density changes with zoom, and when a window goes to another screen.
  #watch() {
    matchMedia(`(resolution: ${devicePixelRatio}dppx)`).addEventListener("change", () => this.isConnected && (this.#ask(), this.#watch()), { once: true });
  }

  #ask = () => {
    const wide = this.getBoundingClientRect().width;
    if (!this.#seen || !wide) return;
    const density = navigator.connection?.saveData ? 1 : Math.min(3, devicePixelRatio || 1);
    const most = Math.min(+(this.getAttribute("natural") || Infinity), Math.ceil(wide * density));
    const rungs = this.getAttribute("rungs")?.split(/[\s,]+/).map(Number) ?? steps();
    const rung = rungs.find((r) => r >= most - 0.5) ?? rungs[rungs.length - 1];
    if (rung <= this.#asked) return; // what is there is fine enough
    this.#asked = rung;
    const d = Object.fromEntries(new URLSearchParams(this.getAttribute("declarations") ?? ""));
    const address = image(this.getAttribute("base") ?? "", this.getAttribute("source") ?? "", { ...d, width: rung });
    if (this.#img.currentSrc && this.#img.complete && this.#img.naturalWidth >= rung) return; // the page's own is
    this.#img.removeAttribute("srcset");
    this.#img.removeAttribute("sizes");
    this.#img.loading = "eager"; // it has been waited for already
    this.#img.src = address;
  };

  #loaded = () => {
    if (this.hasAttribute("loaded")) return;
    this.setAttribute("loaded", ""); // what fades is in the style sheet
    setTimeout(() => this.style.removeProperty("--lane-placeholder"), fade);
  };
}

if (!document.querySelector("link[href*='lane-image.css']")) {
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(`lane-image{display:block;position:relative;overflow:hidden}lane-image>img{display:block;width:100%;height:100%;object-fit:cover}lane-image[placeholder]::before{content:"";position:absolute;inset:0;background:var(--lane-placeholder) center/cover no-repeat;transition:opacity .15s;pointer-events:none}lane-image[loaded]::before{opacity:0}@media (prefers-reduced-motion:reduce){lane-image::before{transition:none!important}}`);
  document.adoptedStyleSheets = [...document.adoptedStyleSheets, sheet];
}
customElements.get("lane-image") ?? customElements.define("lane-image", LaneImage);

export { LaneImage };
