/**
 * <lane-image base="https://img.example.test/kestrel" source="catalogue/delta-red.jpg" declarations="aspect-ratio=3/2">
 *   <img src="…" alt="…" width="640" height="427" loading="lazy">
 * </lane-image>
 */
export class LaneImage extends HTMLElement {}

declare global {
  interface HTMLElementTagNameMap {
    "lane-image": LaneImage;
  }
}
