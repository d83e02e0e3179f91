// A fork on the ribbon: the trunk is the current history, the neck leaves it
// where the histories parted, the tail is what only the adrift server has.
import type { Server } from "../api/client";
import { size } from "../words";
import { left, ticks } from "./ribbon-scale";

// Fork is where the histories part. Negative amounts are not known.
export type Fork = { at?: string; tail_bytes: number; tail_transactions: number; since_bytes: number };

const tick = 14; // px of the neck that run level before the tail
const least = 40;

export type ForkShape = { x: number; start: number; end: number; cut: boolean };

// shape places a fork: dy is how far the adrift row's middle is below the
// trunk's. Every slanted line is 1:2. The tail never crosses "now".
export function shape(f: Fork, width: number, dy: number): ForkShape {
  const run = 2 * dy + tick;
  const wanted = f.since_bytes >= 0 ? width - left(f.since_bytes, width) : width * 0.3;
  const x = Math.max(4, Math.min(wanted, width - run - least - 20));
  const start = x + run;
  const long = f.tail_bytes >= 0 ? Math.max(least, left(f.tail_bytes, width)) : 2 * least;
  const end = Math.min(start + long, width - 16);
  return { x, start, end, cut: start + long > width - 16 };
}

export function tailWords(f: Fork): string {
  const parts = [];
  if (f.tail_bytes >= 0) parts.push(size(f.tail_bytes));
  if (f.tail_transactions >= 0)
    parts.push(f.tail_transactions === 1 ? "1 transaction" : `${f.tail_transactions} transactions`);
  return parts.join(", ") || "of unknown size";
}

// Neck is drawn under the trunk, so that the trunk stays whole.
export function Neck({ f, trunk, row, width }: { f: Fork; trunk: number; row: number; width: number }) {
  const s = shape(f, width, row - trunk);
  const path = `M${s.x} ${trunk}L${s.start - tick} ${row}H${s.start}`;
  return (
    <>
      <path d={path} fill="none" stroke="var(--panel)" strokeWidth="15" />
      <path d={path} fill="none" stroke="var(--adrift-f)" strokeWidth="9" />
    </>
  );
}

// ForkMark is the double hairline of a change of history, with its place.
export function ForkMark({ f, y, width, dy }: { f: Fork; y: number; width: number; dy: number }) {
  const { x } = shape(f, width, dy);
  const label = `fork ${f.at ?? ""}`;
  return (
    <>
      <path className="hist" d={`M${x - 1.5} ${y - 14}V${y + 26}M${x + 1.5} ${y - 14}V${y + 26}`} fill="none" />
      <text className="halo strong" x={x + 8} y={y - 6}>
        fork <tspan className="mono">{f.at}</tspan>
      </text>
      {x > 170 && (
        <text className="halo cap e" x={x - 8} y={y - 6}>
          shared by all
        </text>
      )}
      {x + 8 + label.length * 7.5 + 140 < width && (
        <text className="halo cap" x={x + 24 + label.length * 7.5} y={y - 6}>
          the history goes on
        </text>
      )}
    </>
  );
}

// Tail is the adrift server's row: cross-hatched, with a ruler of its own that
// counts from the fork.
export function Tail({
  s,
  f,
  y,
  dy,
  width,
  id,
}: {
  s: Server;
  f: Fork;
  y: number;
  dy: number;
  width: number;
  id: string;
}) {
  const p = shape(f, width, dy);
  const long = p.end - p.start;
  const label = `the tail: ${tailWords(f)} only here`;
  const marks = f.tail_bytes >= 0 ? ticks.filter((t) => left(t.bytes, width) < long - 8) : [];
  return (
    <>
      <rect x={p.start} y={y} width={long} height="20" fill={`url(#${id}-tail)`} />
      <rect className="tail-o" x={p.start} y={y} width={long} height="20" />
      {p.cut ? (
        <path
          d={`M${p.end - 12} ${y - 4}L${p.end - 4} ${y + 12}M${p.end - 6} ${y - 4}L${p.end + 2} ${y + 12}`}
          stroke="var(--adrift-f)"
          strokeWidth="2"
          fill="none"
        />
      ) : (
        <line className="head" x1={p.end} x2={p.end} y1={y - 3} y2={y + 23} />
      )}
      <text className="halo t-adrift w7" x={Math.max(0, Math.min(p.start, width - label.length * 7))} y={y - 7}>
        {label}
      </text>
      {f.tail_bytes >= 0 && (
        <>
          <line className="sr" x1={p.start} x2={p.end} y1={y + 25.5} y2={y + 25.5} stroke="var(--adrift-f)" />
          <text className="halo cap m" x={p.start} y={y + 40}>
            0
          </text>
          {marks.map((t) => {
            const x = p.start + left(t.bytes, width);
            return (
              <g key={t.label}>
                <line x1={x} x2={x} y1={y + 25} y2={y + 30} stroke="var(--adrift-f)" />
                {x - p.start > 24 && (
                  <text className="halo cap m" x={x} y={y + 40}>
                    {t.label}
                  </text>
                )}
              </g>
            );
          })}
        </>
      )}
      {p.end + 220 < width && s.position && (
        <text className="halo cap" x={p.end + 10} y={y + 14}>
          {s.name} is at <tspan className="mono strong">{s.position}</tspan>
        </text>
      )}
    </>
  );
}
