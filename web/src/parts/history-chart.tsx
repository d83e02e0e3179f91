// What was measured over time, from the service's records, kept current.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { api, take, type View } from "../api/client";
import type { components } from "../api/schema";
import { clock, dayClock, size, span, when } from "../words";
import { Problem } from "./bits";

type Report = components["schemas"]["HistoryReport"];

const ranges = [
  [300, "5 min"],
  [900, "15 min"],
  [3600, "1 h"],
  [6 * 3600, "6 h"],
  [86400, "24 h"],
  [7 * 86400, "7 days"],
  [30 * 86400, "30 days"],
] as const;

// What can be drawn: a metric of each replica, the stages of one, or what the
// primary risks and writes.
const kinds = [
  ["lag_seconds", "time behind"],
  ["lag_bytes", "bytes behind"],
  ["stages", "by stage"],
  ["at_risk_bytes", "at risk"],
  ["written_bytes_per_second", "written"],
  ["conflicts_total", "cancelled queries"],
] as const;
type Kind = (typeof kinds)[number][0];

const stageNames = {
  not_applied_bytes: "not applied",
  not_safe_bytes: "not safe",
  not_received_bytes: "not received",
  not_sent_bytes: "not sent",
} as const;
const strokes = ["--band", "--ink-2", "--seed-f", "--behind-f", "--adrift-f", "--halt-f"];

type Line = { label: string; values: (number | null)[] };

// lines picks what is drawn; a column that knows nothing is left out.
function lines(r: Report, kind: Kind, server: string): Line[] {
  const known = (v: (number | null)[] | undefined): v is (number | null)[] => !!v?.some((x) => x !== null);
  if (kind === "stages") {
    const values = r.servers.find((s) => s.server === server)?.values ?? {};
    return Object.entries(stageNames).flatMap(([metric, label]) => {
      const v = values[metric] as (number | null)[] | undefined;
      return known(v) ? [{ label, values: v }] : [];
    });
  }
  return r.servers.flatMap((s) => {
    const v = s.values[kind] as (number | null)[] | undefined;
    return known(v) ? [{ label: s.server, values: v }] : [];
  });
}

function unit(kind: Kind): (v: number) => string {
  if (kind === "lag_seconds") return span;
  if (kind === "conflicts_total") return (v) => String(Math.round(v));
  if (kind === "written_bytes_per_second") return (v) => `${size(Math.round(v))}/s`;
  return (v) => size(Math.round(v));
}

// drawMarks puts operations (a double hairline) and alerts (a wedge) on the
// time line.
function drawMarks(u: uPlot, marks: Report["marks"], colour: (n: string) => string) {
  const { ctx, bbox } = u;
  ctx.save();
  const px = devicePixelRatio;
  for (const m of marks) {
    const x = Math.round(u.valToPos(Date.parse(m.at) / 1000, "x", true));
    if (x < bbox.left || x > bbox.left + bbox.width) continue;
    if (m.kind === "operation") {
      ctx.strokeStyle = colour("--ink-2");
      ctx.lineWidth = px;
      for (const d of [-1.5 * px, 1.5 * px]) {
        ctx.beginPath();
        ctx.moveTo(x + d, bbox.top);
        ctx.lineTo(x + d, bbox.top + bbox.height);
        ctx.stroke();
      }
    } else {
      ctx.fillStyle = colour("--halt-f");
      ctx.beginPath();
      ctx.moveTo(x, bbox.top + bbox.height - 8 * px);
      ctx.lineTo(x + 8 * px, bbox.top + bbox.height);
      ctx.lineTo(x, bbox.top + bbox.height);
      ctx.fill();
    }
  }
  ctx.restore();
}

function Chart({
  report,
  list,
  kind,
  limit,
  seconds,
}: {
  report: Report;
  list: Line[];
  kind: Kind;
  limit: number;
  seconds: number;
}) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const marks = useRef(report.marks);
  marks.current = report.marks;
  const key = list.map((l) => l.label).join(",");
  useEffect(() => {
    if (!box.current || key === "") return;
    const style = getComputedStyle(document.documentElement);
    const colour = (n: string) => style.getPropertyValue(n) || "gray";
    const text = unit(kind);
    const axis = {
      stroke: colour("--ink-3"),
      grid: { stroke: colour("--line"), width: 1 },
      ticks: { stroke: colour("--edge"), width: 1 },
      font: "12px B612",
    };
    const at = seconds > 86400 ? dayClock : clock;
    const floor = kind === "lag_seconds" ? limit : 1024;
    const u = new uPlot(
      {
        width: box.current.clientWidth,
        height: 190,
        cursor: { drag: { x: false, y: false } },
        scales: {
          x: { time: true },
          // Small values stay readable beside a peak: linear near zero, then
          // logarithmic.
          y: {
            distr: kind === "conflicts_total" ? 1 : 4,
            asinh: kind === "lag_seconds" ? 0.01 : 1024,
            range: (_, __, max) => [0, Math.max(floor, max || 0) * 2],
          },
        },
        series: [
          { value: (_, v) => (v == null ? "–" : at(new Date(v * 1000))) },
          ...key.split(",").map((n, i) => ({
            label: n,
            stroke: colour(strokes[i % strokes.length] ?? "--band"),
            width: 1.5,
            dash: i > 2 ? [6, 3] : undefined,
            value: (_: uPlot, v: number | null) => (v == null ? "–" : text(v)),
          })),
        ],
        axes: [
          { ...axis, values: (_, v) => v.map((x) => at(new Date(x * 1000))), space: seconds > 86400 ? 110 : 70 },
          {
            ...axis,
            size: 70,
            splits: (u) => splits(kind, u.scales.y?.max ?? 1),
            values: (_, v) => v.map((x) => (x === 0 ? "0" : text(x))),
          },
        ],
        hooks: {
          draw: [
            (u) => drawMarks(u, marks.current, colour),
            (u) => {
              if (kind !== "lag_seconds" || (u.scales.y?.max ?? 0) < limit) return;
              const y = u.valToPos(limit, "y", true);
              u.ctx.save();
              u.ctx.strokeStyle = colour("--behind-f");
              u.ctx.setLineDash([4 * devicePixelRatio, 3 * devicePixelRatio]);
              u.ctx.beginPath();
              u.ctx.moveTo(u.bbox.left, y);
              u.ctx.lineTo(u.bbox.left + u.bbox.width, y);
              u.ctx.stroke();
              u.ctx.font = `${12 * devicePixelRatio}px B612`;
              u.ctx.fillStyle = colour("--behind");
              u.ctx.textAlign = "left";
              u.ctx.textBaseline = "alphabetic";
              u.ctx.fillText(
                `“behind” from ${span(limit)}`,
                u.bbox.left + 6 * devicePixelRatio,
                y - 4 * devicePixelRatio,
              );
              u.ctx.restore();
            },
          ],
        },
      },
      [[]],
      box.current,
    );
    plot.current = u;
    const o = new ResizeObserver(([e]) => e && u.setSize({ width: e.contentRect.width, height: 190 }));
    o.observe(box.current);
    return () => {
      o.disconnect();
      u.destroy();
      plot.current = undefined;
    };
  }, [key, kind, limit, seconds]);
  useEffect(() => {
    plot.current?.setData([report.at.map((t) => Date.parse(t) / 1000), ...list.map((l) => l.values)], false);
    plot.current?.setScale("x", { min: Date.parse(report.from) / 1000, max: Date.parse(report.to) / 1000 });
  }, [report, list, key, kind, limit, seconds]);
  return (
    <div
      ref={box}
      className="min-w-0 overflow-hidden"
      role="img"
      aria-label={`${key || "nothing"} from ${report.from} to ${report.to}`}
    />
  );
}

function splits(kind: Kind, max: number): number[] {
  const steps =
    kind === "lag_seconds"
      ? [0, 0.01, 0.1, 1, 10, 60, 600, 3600, 86400]
      : [0, 1024, 65536, 1 << 20, 1 << 24, 1 << 30, 2 ** 36];
  if (kind === "conflicts_total") return [0, Math.ceil(max / 2), Math.ceil(max)];
  return steps.filter((x) => x <= max);
}

// HistoryChart draws a cluster's past, with its operations and alerts.
export function HistoryChart({ view }: { view: View }) {
  const [seconds, setSeconds] = useState<number>(900);
  const [kind, setKind] = useState<Kind>("lag_seconds");
  const replicas = view.servers.filter((s) => s.name !== view.primary).map((s) => s.name);
  const [server, setServer] = useState("");
  const shown = replicas.includes(server) ? server : (replicas[0] ?? "");
  const q = useQuery({
    queryKey: ["history", view.cluster, seconds],
    queryFn: () => {
      const to = new Date();
      const from = new Date(to.getTime() - seconds * 1000);
      const query = {
        from: from.toISOString().replace(/\.\d+Z/, "Z"),
        to: to.toISOString().replace(/\.\d+Z/, "Z"),
        points: "600",
      };
      return take(
        api.GET("/api/v1/clusters/{cluster}/history", { params: { path: { cluster: view.cluster }, query } }),
      );
    },
    refetchInterval: Math.max(2000, Math.min(60000, (seconds / 600) * 1000)),
    placeholderData: keepPreviousData,
  });
  const list = q.data ? lines(q.data, kind, shown) : [];
  const marks = q.data?.marks.slice(-4).reverse() ?? [];
  const table = q.data
    ? `/api/v1/clusters/${view.cluster}/history.csv?from=${q.data.from}&to=${q.data.to}`
    : undefined;
  return (
    <>
      <div className="btns mb-1.5 flex-wrap" role="group" aria-label="What is drawn">
        {kinds.map(([k, words]) => (
          <button key={k} className="pick" aria-pressed={kind === k} onClick={() => setKind(k)}>
            {words}
          </button>
        ))}
        {kind === "stages" && (
          <select className="field" aria-label="Replica" value={shown} onChange={(e) => setServer(e.target.value)}>
            {replicas.map((r) => (
              <option key={r}>{r}</option>
            ))}
          </select>
        )}
      </div>
      <div className="btns mb-1.5 flex-wrap" role="group" aria-label="How far back">
        {ranges.map(([n, words]) => (
          <button key={n} className="pick" aria-pressed={seconds === n} onClick={() => setSeconds(n)}>
            {words}
          </button>
        ))}
        {table && (
          <a className="note" href={table} download>
            save as CSV
          </a>
        )}
      </div>
      <Problem error={q.error} />
      {q.data && list.length > 0 && (
        <Chart report={q.data} list={list} kind={kind} limit={view.policy.behind_seconds} seconds={seconds} />
      )}
      {q.data && list.length === 0 && <p className="note">Nothing was measured in that time.</p>}
      {marks.length > 0 && (
        <ul className="ops">
          {marks.map((m) => (
            <li key={m.kind + m.id}>
              <svg className="g" width="16" height="16" viewBox="0 0 16 16" aria-hidden="true">
                {m.kind === "operation" ? (
                  <path d="M6 1V15M10 1V15" strokeWidth="1.4" />
                ) : (
                  <path className="f c-halt" d="M3 3L13 13H3Z" />
                )}
              </svg>
              {m.kind === "operation" ? (
                <Link to={`/operations/${m.id}`}>{m.text}</Link>
              ) : (
                <Link to={`/alerts?cluster=${view.cluster}`}>{m.text}</Link>
              )}
              <span className="num c-2">{when(m.at)}</span>
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
