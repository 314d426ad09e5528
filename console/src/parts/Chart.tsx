// Charts over time in the console's own colours, drawn anew when it turns light or dark. What a chart shows, its label says in words
// too; the figures under the pointer stand below it.
import { useEffect, useRef, useState } from "react";
import Plot from "uplot";
import "uplot/dist/uPlot.min.css";

export interface Series {
  name: string;
  colour: string; // a custom property, such as --chart-1
  values: number[];
  dashed?: boolean;
}

const height = 190;

// Bars stand on each other, in the order of their series; lines stand by themselves.
export function Chart(props: { label: string; kind: "bars" | "lines"; at: number[]; series: Series[]; text: (n: number) => string; time: (at: number) => string }) {
  const box = useRef<HTMLDivElement>(null);
  const [theme, setTheme] = useState(document.documentElement.dataset.theme);
  useEffect(() => {
    const watch = new MutationObserver(() => setTheme(document.documentElement.dataset.theme));
    watch.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    return () => watch.disconnect();
  }, []);
  useEffect(() => {
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string) => style.getPropertyValue(name).trim();
    const font = `12px ${getComputedStyle(document.body).fontFamily}`;
    const stacked = props.kind === "bars";
    // A bar reaches from the ground up to the sum of those below it and its own, so the highest is drawn first.
    const sums = props.at.map(() => 0);
    const shown = props.series.map((s) => ({ ...s, drawn: stacked ? s.values.map((v, i) => (sums[i]! += v)) : s.values }));
    const drawn = stacked ? shown.reverse() : shown;
    const axis = { stroke: colour("--soft"), font, grid: { stroke: colour("--line"), width: 1 }, ticks: { show: false } };
    const plot = new Plot(
      {
        width: box.current!.clientWidth,
        height,
        cursor: { y: false, points: { show: !stacked }, drag: { x: false, y: false } },
        legend: { live: true, markers: { width: 0, fill: (_, i) => drawn[i - 1]?.colour ? colour(drawn[i - 1]!.colour) : "transparent" } },
        scales: { x: { time: false, range: (_, from, to) => (stacked ? [from - (props.at[1]! - props.at[0]!) / 2, to + (props.at[1]! - props.at[0]!) / 2] : [from, to]) }, y: { range: (_, __, most) => [0, Math.max(1, most * 1.05)] } },
        axes: [
          { ...axis, grid: { show: false }, space: 80, size: 28, incrs: [60, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800, 432000], values: (_, at) => at.map(props.time) },
          { ...axis, size: 70, values: (_, n) => n.map((v) => (v === Math.round(v) ? props.text(v) : "")) },
        ],
        series: [
          { label: "in", value: (_, v) => (v == null ? "all of it" : props.time(v)) },
          ...drawn.map(
            (s): Plot.Series => ({
              label: s.name,
              stroke: colour(s.colour),
              fill: stacked ? colour(s.colour) : undefined,
              width: stacked ? 0 : 2,
              dash: s.dashed ? [6, 4] : undefined,
              points: { show: false },
              paths: stacked ? Plot.paths.bars!({ size: [0.85, 40] }) : Plot.paths.linear!(),
              value: (_, __, ___, i) => (i == null ? props.text(s.values.reduce((a, b) => a + b, 0)) : props.text(s.values[i]!)),
            }),
          ),
        ],
      },
      [props.at, ...drawn.map((s) => s.drawn)],
      box.current!,
    );
    const resized = new ResizeObserver(() => plot.setSize({ width: box.current!.clientWidth, height }));
    resized.observe(box.current!);
    return () => (resized.disconnect(), plot.destroy());
  }, [theme, props.kind, JSON.stringify(props.at), JSON.stringify(props.series)]);
  return <div ref={box} role="img" aria-label={props.label} className={"chart w-full" + (props.kind === "bars" ? " chart-bars" : "")} />;
}
