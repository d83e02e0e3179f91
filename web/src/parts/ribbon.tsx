import { useEffect, useId, useRef, useState } from "react";
import type { Server, View } from "../api/client";
import { behind, size, span } from "../words";
import { Glyph, healthClass } from "./glyphs";
import { ForkMark, Neck, Tail, tailWords, type Fork } from "./ribbon-fork";
import { fits, left, notAcknowledged, stages, ticks, worst, type Stage } from "./ribbon-scale";

const top = 64;

// Layout says where names, bands and figures stand. In a narrow window the
// words stand above the bands: the axis goes, never the figures.
type Layout = {
  band: number;
  width: number;
  down: number;
  row: number;
  glyph: number;
  word: number;
  bytes: number;
  time: number;
  narrow: boolean;
};

function layout(full: number): Layout {
  if (full < 720)
    return {
      band: 0,
      width: full - 2,
      down: 18,
      row: 56,
      glyph: 76,
      word: 96,
      bytes: full - 62,
      time: full - 2,
      narrow: true,
    };
  const [names, figures] = [136, 248];
  const width = full - names - figures;
  return {
    band: names,
    width,
    down: 0,
    row: 52,
    glyph: names + width + 26,
    word: names + width + 48,
    bytes: names + width + 176,
    time: full,
    narrow: false,
  };
}

// words names the bottleneck under its stage, as the service diagnosed it.
function words(s: Server): string {
  const more =
    s.catch_up_seconds > 0 && s.health === "behind" ? `. Level again in about ${span(s.catch_up_seconds)}.` : "";
  const text = (s.diagnosis ?? s.why ?? "") + more;
  return text.length > 150 ? text.slice(0, 149) + "…" : text;
}

function tone(health: string) {
  if (health === "behind") return "w-behind";
  return health === "stalled" || health === "unseen" ? "w-stalled" : "";
}

function StageShape({ stage, y, id, hot }: { stage: Stage; y: number; id: string; hot: string }) {
  const { from, to } = stage;
  const kind = hot === "w-behind" ? "b" : hot === "w-stalled" ? "s" : "p";
  const width = Math.max(0, to - from - 0.5);
  switch (stage.name) {
    case "applied":
      return <rect className="applied" x={from} y={y} width={Math.max(0, to - from)} height="20" />;
    case "received":
      return (
        <g className={hot}>
          <rect fill={`url(#${id}-hatch-${kind})`} x={from} y={y} width={width} height="20" />
          <rect className="stage-o" x={from} y={y + 0.5} width={width} height="19" />
        </g>
      );
    case "sent":
      return (
        <g className={hot}>
          <rect fill={`url(#${id}-dots-${kind})`} x={from} y={y + 5} width={width} height="10" />
          <rect className="stage-o" x={from} y={y + 5.5} width={width} height="9" />
        </g>
      );
    default:
      return <line className={`unsent ${hot}`} x1={from} x2={to} y1={y + 10} y2={y + 10} />;
  }
}

// Seeding is a share, not a position.
function Copy({ s, y, width }: { s: Server; y: number; width: number }) {
  const { done_bytes, total_bytes, seconds_left } = s.seeding ?? { done_bytes: 0, total_bytes: 0, seconds_left: -1 };
  const share = total_bytes > 0 ? Math.min(1, done_bytes / total_bytes) : 0;
  const left = seconds_left > 0 ? `, about ${span(seconds_left)} left` : "";
  const words = total_bytes > 0 ? `${size(done_bytes)} of ${size(total_bytes)} copied${left}` : (s.why ?? "copying");
  return (
    <>
      <rect className="so" x="0.5" y={y + 0.5} width={width - 1} height="19" fill="none" stroke="var(--seed-f)" />
      <rect className="sf" x="0" y={y} width={share * width} height="20" fill="var(--seed-f)" />
      <text className="halo t-seeding" x="0" y={y - 6}>
        {words}
      </text>
    </>
  );
}

function Row({
  s,
  y: line,
  at,
  id,
  engine,
  fork,
  dy,
  acknowledges,
}: {
  s: Server;
  y: number;
  at: Layout;
  id: string;
  engine: string;
  fork?: Fork;
  dy: number;
  acknowledges: boolean;
}) {
  const { width } = at;
  const y = line + at.down;
  const primary = s.role === "primary";
  const normal = s.health === "in step" || s.health === "takes writes";
  const seen = s.position !== undefined && s.position !== "";
  const parts = primary ? [] : stages(s, width);
  const wait = worst(parts);
  const hot = normal ? "" : tone(s.health);
  return (
    <g>
      <text className="name" x="0" y={line + 9}>
        {s.name}
      </text>
      {!at.narrow && (
        <text className="cap" x="0" y={line + 25}>
          {s.role}
          {s.site ? `, ${s.site}` : ""}
          {acknowledges && <tspan className="strong"> ✓</tspan>}
        </text>
      )}
      <svg x={at.band} y="0" width={width} overflow="visible">
        {primary && seen && (
          <path className="lead" d={`M0 ${y}H${width - 9}L${width} ${y + 6}V${y + 14}L${width - 9} ${y + 20}H0Z`} />
        )}
        {primary && !seen && (
          <path
            d={`M0 ${y + 2}H${width}V${y + 18}H0`}
            fill="none"
            stroke="var(--halt-f)"
            strokeWidth="1.5"
            strokeDasharray="3 3"
          />
        )}
        {s.health === "seeding" && <Copy s={s} y={y} width={width} />}
        {fork && <Tail s={s} f={fork} y={y} dy={dy} width={width} id={id} />}
        {!primary && seen && !fork && s.health !== "seeding" && (
          <>
            {parts.map((p) => (
              <StageShape key={p.name} stage={p} y={y} id={id} hot={wait && p.name === wait.name ? hot : ""} />
            ))}
            <line className="head" x1={parts[0]?.to ?? width} x2={parts[0]?.to ?? width} y1={y - 3} y2={y + 23} />
            {!normal &&
              parts.map((p) => {
                const label = size(p.bytes);
                return p.name !== "applied" && fits(label, p.to - p.from) ? (
                  <text
                    key={p.name}
                    className={`m ${p === wait ? `strong ${hot.replace("w-", "t-")}` : ""}`}
                    x={(p.from + p.to) / 2}
                    y={y - 6}
                  >
                    {label}
                  </text>
                ) : null;
              })}
            {!normal && hot && (s.diagnosis ?? s.why) && (
              <text
                className={`halo ${hot.replace("w-", "t-")}`}
                x={Math.max(0, Math.min(wait?.from ?? 0, width - words(s).length * 6.6))}
                y={y + 40}
              >
                {words(s)}
              </text>
            )}
            {!normal && hot && wait && (
              <path className="dim" d={`M${wait.from + 0.5} ${y + 22}V${y + 25}H${wait.to - 0.5}V${y + 22}`} />
            )}
          </>
        )}
        {!primary && !seen && !fork && s.health !== "seeding" && (
          <text className="cap" x="8" y={y + 14}>
            {s.why ?? s.health}
          </text>
        )}
      </svg>
      <g transform={`translate(${at.glyph} ${at.narrow ? line - 4 : line + 2})`} className={healthClass(s.health)}>
        <Glyph name={s.health} />
      </g>
      <text
        className={`${normal ? "" : "w7"} ${hot.replace("w-", "t-")}`}
        x={at.word}
        y={at.narrow ? line + 9 : line + 14}
      >
        {s.health}
      </text>
      {fork && (
        <text className="fig e t-adrift" x={at.time} y={at.narrow ? line + 9 : line + 15}>
          {fork.tail_bytes >= 0
            ? `tail ${size(fork.tail_bytes)}`
            : fork.tail_transactions >= 0
              ? `tail ${fork.tail_transactions} trx`
              : "a tail"}
        </text>
      )}
      {!primary && seen && !fork && (
        <>
          <text className={`fig e ${hot.replace("w-", "t-")}`} x={at.bytes} y={at.narrow ? line + 9 : line + 15}>
            {!s.lag.known || (engine === "mariadb" && s.lag_bytes === 0 && s.lag.seconds > 0)
              ? "–"
              : size(s.lag_bytes)}
          </text>
          <text className={`fig e ${hot.replace("w-", "t-")}`} x={at.time} y={at.narrow ? line + 9 : line + 15}>
            {behind(s.lag)}
          </text>
        </>
      )}
    </g>
  );
}

function Patterns({ id }: { id: string }) {
  return (
    <defs>
      {["p", "b", "s"].map((k) => (
        <g key={k}>
          <pattern id={`${id}-hatch-${k}`} width="10" height="5" patternUnits="userSpaceOnUse">
            <path className={`px ${k}`} d="M-2 1L2 -1M0 5L10 0M8 6L12 4" />
          </pattern>
          <pattern id={`${id}-dots-${k}`} width="8" height="4" patternUnits="userSpaceOnUse">
            <g className={`pd ${k}`}>
              <circle cx="2" cy="1" r="1" />
              <circle cx="6" cy="3" r="1" />
            </g>
          </pattern>
        </g>
      ))}
      <pattern id={`${id}-tail`} width="12" height="6" patternUnits="userSpaceOnUse">
        <path className="px a" strokeWidth="1.1" d="M0 0L12 6M0 6L12 0" />
      </pattern>
    </defs>
  );
}

// Ribbon draws where every server stands: the right edge is the newest write of
// the primary, distance to the left is bytes, on a logarithmic scale.
export function Ribbon({ view, forks = {} }: { view: View; forks?: Record<string, Fork> }) {
  const id = useId();
  const box = useRef<HTMLDivElement>(null);
  const [full, setFull] = useState(1184);
  useEffect(() => {
    if (!box.current) return;
    const o = new ResizeObserver(([e]) => e && setFull(Math.max(300, e.contentRect.width)));
    o.observe(box.current);
    return () => o.disconnect();
  }, []);
  const at = layout(full);
  const { width } = at;
  const primarySeen = view.servers.some((s) => s.role === "primary" && s.position);
  const forkOf = (s: Server): Fork | undefined =>
    primarySeen && s.role !== "primary" ? (forks[s.name] ?? s.fork) : undefined;
  // Primary, then who left its history, then its replicas, then copies.
  const place = (s: Server) => (s.role === "primary" ? 0 : forkOf(s) ? 1 : s.health === "seeding" ? 3 : 2);
  const servers = [...view.servers].sort((a, b) => place(a) - place(b));
  const begin = servers.some(forkOf) ? top + 18 : top;
  const extra: number[] = servers.map((s) =>
    forkOf(s) ? 34 : s.health === "behind" || s.health === "stalled" ? 18 : 0,
  );
  const lead: number[] = servers.map((s) => (forkOf(s) ? 12 : s.health === "seeding" ? 16 : 0));
  const rows = servers.map(
    (_, i) =>
      begin +
      i * at.row +
      extra.slice(0, i).reduce((n, x) => n + x, 0) +
      lead.slice(0, i + 1).reduce((n, x) => n + x, 0),
  );
  const height = (rows.at(-1) ?? begin) + at.down + 40 + (extra.at(-1) ?? 0);
  const firstCopy = servers.findIndex((s) => s.health === "seeding");
  const floor = firstCopy >= 0 ? (rows[firstCopy] ?? height) - 20 : height - 6;
  const trunk = (rows[0] ?? begin) + at.down;
  const primary = servers.find((s) => s.role === "primary");
  const waits = notAcknowledged(view);
  // What commits wait for is drawn apart from "now" where there is anything.
  const acked = !waits || !primarySeen ? undefined : at.band + width - Math.max(4, left(waits, width));
  const said = servers
    .map((s) => {
      const fork = forkOf(s);
      const how = fork
        ? `, left the history at ${fork.at ?? "an unknown place"} with a tail of ${tailWords(fork)}`
        : s.role === "replica"
          ? `, ${size(s.lag_bytes)}, ${behind(s.lag)} behind`
          : "";
      return `${s.name}: ${s.health}${how}`;
    })
    .join("; ");
  return (
    <div ref={box} className="min-w-0 overflow-hidden">
      <svg
        className="rb"
        width={full}
        height={height}
        role="img"
        aria-label={`Positions of ${view.cluster}. ${said}.`}
      >
        <title>{`Positions of ${view.cluster}`}</title>
        <desc>{said}</desc>
        <Patterns id={id} />
        <line className="rule" x1={at.band} x2={at.band + width} y1="48.5" y2="48.5" />
        {!at.narrow &&
          ticks.map((t) => {
            const x = at.band + width - left(t.bytes, width);
            return (
              <g key={t.label}>
                <line className="rule" x1={x} x2={x} y1="42" y2="48" />
                <line className="guide" x1={x} x2={x} y1="49" y2={floor} />
                <text className="cap m" x={x} y="38">
                  {t.label}
                </text>
              </g>
            );
          })}
        <svg x={at.band} y="0" width={width} overflow="visible">
          {servers.map((s, i) => {
            const f = forkOf(s);
            return (
              f && <Neck key={s.name} f={f} trunk={trunk + 10} row={(rows[i] ?? begin) + at.down + 10} width={width} />
            );
          })}
        </svg>
        {servers.map((s, i) => (
          <Row
            key={s.name}
            s={s}
            y={rows[i] ?? begin}
            at={at}
            id={id}
            engine={view.engine}
            fork={forkOf(s)}
            dy={(rows[i] ?? begin) + at.down - trunk}
            acknowledges={view.synchronous?.list.names.includes(s.name) ?? false}
          />
        ))}
        <svg x={at.band} y="0" width={width} overflow="visible">
          {servers.map((s, i) => {
            const f = forkOf(s);
            return (
              f && <ForkMark key={s.name} f={f} y={trunk} width={width} dy={(rows[i] ?? begin) + at.down - trunk} />
            );
          })}
        </svg>
        {acked !== undefined && (
          <>
            <line className="acked" x1={acked} x2={acked} y1="49" y2={height - 6} />
            <text className="cap e halo" x={acked - 6} y={height - 8}>
              acknowledged up to here
            </text>
          </>
        )}
        <line className="now" x1={at.band + width} x2={at.band + width} y1="6" y2={height - 6} />
        <text className={at.narrow ? "strong e" : "strong"} x={at.band + width + (at.narrow ? -6 : 6)} y="38">
          now
        </text>
        {!at.narrow && primary?.position && (
          <text className="e cap" x={at.band + width - 8} y="17">
            {primary.name}’s newest write <tspan className="mono strong">{primary.position}</tspan>
          </text>
        )}
        {!at.narrow && (
          <text className="cap e" x={at.bytes} y="38">
            behind by
          </text>
        )}
      </svg>
    </div>
  );
}
