import { useEffect, useId, useRef, useState } from "react";
import type { Server, View } from "../api/client";
import { behind, size, span } from "../words";
import { Glyph, healthClass } from "./glyphs";
import { fits, left, stages, ticks, worst, type Stage } from "./ribbon-scale";

const top = 64;

// Layout says where names, bands and figures stand. In a narrow window the
// words stand above the bands: the axis goes, never the figures.
type Layout = { band: number; width: number; down: number; row: number; glyph: number; word: number; bytes: number; time: number; narrow: boolean };

function layout(full: number): Layout {
  if (full < 720) return { band: 0, width: full - 2, down: 18, row: 56, glyph: 76, word: 96, bytes: full - 62, time: full - 2, narrow: true };
  const [names, figures] = [136, 248];
  const width = full - names - figures;
  return { band: names, width, down: 0, row: 52, glyph: names + width + 26, word: names + width + 48, bytes: names + width + 176, time: full, narrow: false };
}

const causes: Record<string, string> = {
  received: "replay is the bottleneck: received and waiting",
  sent: "the way to it is the bottleneck: sent and not yet safe there",
  unsent: "the primary or its network is the bottleneck: not yet sent",
};

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

function Row({ s, y: line, at, id, engine }: { s: Server; y: number; at: Layout; id: string; engine: string }) {
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
        </text>
      )}
      <svg x={at.band} y="0" width={width} overflow="visible">
        {primary && seen && <path className="lead" d={`M0 ${y}H${width - 9}L${width} ${y + 6}V${y + 14}L${width - 9} ${y + 20}H0Z`} />}
        {primary && !seen && <path d={`M0 ${y + 2}H${width}V${y + 18}H0`} fill="none" stroke="var(--halt-f)" strokeWidth="1.5" strokeDasharray="3 3" />}
        {!primary && seen && (
          <>
            {parts.map((p) => (
              <StageShape key={p.name} stage={p} y={y} id={id} hot={wait && p.name === wait.name ? hot : ""} />
            ))}
            <line className="head" x1={parts[0]?.to ?? width} x2={parts[0]?.to ?? width} y1={y - 3} y2={y + 23} />
            {!normal &&
              parts.map((p) => {
                const label = size(p.bytes);
                return p.name !== "applied" && fits(label, p.to - p.from) ? (
                  <text key={p.name} className={`m ${p === wait ? `strong ${hot.replace("w-", "t-")}` : ""}`} x={(p.from + p.to) / 2} y={y - 6}>
                    {label}
                  </text>
                ) : null;
              })}
            {!normal && wait && hot && (
              <text className={`halo ${hot.replace("w-", "t-")}`} x={Math.max(0, Math.min(wait.from, width - 420))} y={y + 38}>
                {causes[wait.name]}
                {s.catch_up_seconds > 0 ? `. Level again in about ${span(s.catch_up_seconds)}.` : ""}
              </text>
            )}
          </>
        )}
        {!primary && !seen && (
          <text className="cap" x="8" y={y + 14}>
            {s.why ?? s.health}
          </text>
        )}
        {s.health === "adrift" && seen && <path className="neck" d={`M${width - 60} ${y - 4}L${width - 40} ${y + 6}H${width - 8}`} />}
      </svg>
      <g transform={`translate(${at.glyph} ${at.narrow ? line - 4 : line + 2})`} className={healthClass(s.health)}>
        <Glyph name={s.health} />
      </g>
      <text className={`${normal ? "" : "w7"} ${hot.replace("w-", "t-")}`} x={at.word} y={at.narrow ? line + 9 : line + 14}>
        {s.health}
      </text>
      {!primary && seen && (
        <>
          <text className={`fig e ${hot.replace("w-", "t-")}`} x={at.bytes} y={at.narrow ? line + 9 : line + 15}>
            {!s.lag.known || (engine === "mariadb" && s.lag_bytes === 0 && s.lag.seconds > 0) ? "–" : size(s.lag_bytes)}
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
    </defs>
  );
}

// Ribbon draws where every server stands: the right edge is the newest write of
// the primary, distance to the left is bytes, on a logarithmic scale.
export function Ribbon({ view }: { view: View }) {
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
  const servers = [...view.servers].sort((a, b) => Number(b.role === "primary") - Number(a.role === "primary"));
  const extra: number[] = servers.map((s) => (s.health === "behind" || s.health === "stalled" ? 18 : 0));
  const rows = servers.map((_, i) => top + i * at.row + extra.slice(0, i).reduce((n, x) => n + x, 0));
  const height = (rows.at(-1) ?? top) + at.down + 40 + (extra.at(-1) ?? 0);
  const primary = servers.find((s) => s.role === "primary");
  const words = servers.map((s) => `${s.name}: ${s.health}${s.role === "replica" ? `, ${size(s.lag_bytes)}, ${behind(s.lag)} behind` : ""}`).join("; ");
  return (
    <div ref={box} className="wide">
      <svg className="rb" width={full} height={height} role="img" aria-label={`Positions of ${view.cluster}. ${words}.`}>
        <title>{`Positions of ${view.cluster}`}</title>
        <desc>{words}</desc>
        <Patterns id={id} />
        <line className="rule" x1={at.band} x2={at.band + width} y1="48.5" y2="48.5" />
        {!at.narrow &&
          ticks.map((t) => {
            const x = at.band + width - left(t.bytes, width);
            return (
              <g key={t.label}>
                <line className="rule" x1={x} x2={x} y1="42" y2="48" />
                <line className="guide" x1={x} x2={x} y1="49" y2={height - 6} />
                <text className="cap m" x={x} y="38">
                  {t.label}
                </text>
              </g>
            );
          })}
        {servers.map((s, i) => (
          <Row key={s.name} s={s} y={rows[i] ?? top} at={at} id={id} engine={view.engine} />
        ))}
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
