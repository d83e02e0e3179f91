import { span } from "../words";

type Moment = { at: string; what: string };

// Course draws the moments of a failover that began by itself on one line of time. Their
// names stand one under the other, each with a line to its moment: they are often close.
export function Course({ moments }: { moments: Moment[] }) {
  const first = moments[0];
  if (!first || moments.length < 2) return null;
  const width = 760;
  const row = 22;
  const zero = Date.parse(first.at);
  let before = 0;
  const marks = moments.map((m) => {
    const t = (Date.parse(m.at) - zero) / 1000;
    const later = t - before;
    before = t;
    return { ...m, t, later };
  });
  const end = Math.max(0.001, ...marks.map((m) => m.t));
  const x = (t: number) => 6 + (t / end) * (width - 260);
  const names = x(end) + 22;
  const height = 26 + row * marks.length;
  return (
    <div className="wf overflow-x-auto mt-3 mb-4">
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={marks.map((m) => `${m.what} at ${span(m.t)}`).join("; ")}
      >
        <line className="rule" x1={x(0)} x2={x(end)} y1="10" y2="10" />
        {marks.map((m, i) => (
          <g key={i}>
            <path className="lead" fill="none" d={`M${x(m.t)} 10V${26 + row * i + 4}H${names - 6}`} />
            <circle className="fill-(--ink)" cx={x(m.t)} cy="10" r="4" />
            <text className="nm" x={names} y={26 + row * i + 8}>
              {m.what}
              <tspan className="c-3" dx="8">
                {i === 0 ? "" : `+${span(m.later)}`}
              </tspan>
            </text>
          </g>
        ))}
      </svg>
    </div>
  );
}
