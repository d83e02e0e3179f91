import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { useLive } from "../live";
import { clock, span } from "../words";

const strokes = ["--band", "--ink-2", "--seed-f", "--behind-f", "--adrift-f"];

// LagChart draws the time behind since this page was opened.
export function LagChart({ cluster, limit, stamp }: { cluster: string; limit: number; stamp: string }) {
  const { history } = useLive();
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const samples = history.get(cluster) ?? [];
  const names = Object.keys(samples.at(-1)?.lag ?? {});
  const key = names.join(",");
  useEffect(() => {
    if (!box.current || key === "") return;
    const style = getComputedStyle(document.documentElement);
    const colour = (n: string) => style.getPropertyValue(n) || "gray";
    const axis = { stroke: colour("--ink-3"), grid: { stroke: colour("--line"), width: 1 }, ticks: { stroke: colour("--edge"), width: 1 }, font: "12px B612" };
    const u = new uPlot(
      {
        width: box.current.clientWidth,
        height: 170,
        legend: { show: true, live: true },
        cursor: { drag: { x: false, y: false } },
        scales: { y: { range: (_, __, max) => [0, Math.max(limit, max || 0) * 1.1] } },
        series: [
          { value: (_, v) => (v == null ? "–" : clock(new Date(v * 1000))) },
          ...key.split(",").map((n, i) => ({
            label: n,
            stroke: colour(strokes[i % strokes.length] ?? "--band"),
            width: 1.5,
            value: (_: uPlot, v: number | null) => (v == null ? "–" : span(v)),
          })),
        ],
        axes: [
          { ...axis, values: (_, list) => list.map((v) => clock(new Date(v * 1000))) },
          { ...axis, size: 64, values: (_, list) => list.map((v) => (v === 0 ? "0" : span(v))) },
        ],
      },
      [[]],
      box.current,
    );
    plot.current = u;
    const o = new ResizeObserver(([e]) => e && u.setSize({ width: e.contentRect.width, height: 170 }));
    o.observe(box.current);
    return () => {
      o.disconnect();
      u.destroy();
      plot.current = undefined;
    };
  }, [key, limit]);
  useEffect(() => {
    const list = history.get(cluster) ?? [];
    if (!plot.current || key === "") return;
    plot.current.setData([list.map((s) => s.at), ...key.split(",").map((n) => list.map((s) => s.lag[n] ?? null))]);
  }, [history, cluster, key, stamp]);
  return (
    <div ref={box} className="wide" role="img" aria-label={`Time behind of ${names.join(", ")} since this page was opened`}>
      {samples.length === 0 && <p className="note">The first sample comes within a second.</p>}
    </div>
  );
}
