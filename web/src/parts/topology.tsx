// Topology draws who follows whom: each server under the one that it follows,
// its link with its state, its site, and what is special about it. A role change
// begins at a server in it.
import { Link } from "react-router";
import type { Request, Server, View } from "../api/client";
import { rank, span } from "../words";
import { Glyph, healthClass } from "./glyphs";
import { tree } from "./tree";
import { May } from "../may";

const row = 44;
const step = 28; // px to the right for each level

const paths: Record<string, string> = {
  up: "stroke-(--band)",
  down: "stroke-(--halt-f) [stroke-dasharray:3_4]",
  none: "stroke-(--halt-f) [stroke-dasharray:3_4]",
};

// link says how a server's link is: drawn solid, broken, or not at all.
function link(s: Server): { name: string; word: string } {
  if (s.role === "primary") return { name: "", word: "takes the writes of the cluster" };
  if (!s.follows) return { name: "none", word: "follows no server" };
  if (s.link === "connected") return { name: "up", word: `follows ${s.follows}` };
  return { name: "down", word: `follows ${s.follows}, link is ${s.link}` };
}

function Marks({ s }: { s: Server }) {
  return (
    <span className="note">
      {s.site ? `${s.site}, ` : ""}
      {s.role === "primary" ? "primary" : `rank ${rank(s.rank)}`}
      {s.delay_seconds > 0 ? `, delayed by ${span(s.delay_seconds)}` : ""}
      {s.hidden ? ", hidden from readers" : ""}
    </span>
  );
}

export function Topology({ view, act }: { view: View; act: (r: Request) => void }) {
  const places = tree(view.servers, view.primary);
  const height = places.length * row;
  const deepest = Math.max(0, ...places.map((p) => p.depth));
  const width = (deepest + 1) * step;
  return (
    <section className="sec" aria-label="Who follows whom">
      <h2 className="h">Who follows whom</h2>
      <div className="grid gap-x-2" style={{ gridTemplateColumns: `${width}px 1fr` }}>
        <svg width={width} height={height} aria-hidden="true">
          {places.map((p) => {
            if (p.parent < 0) return null;
            const up = places[p.parent];
            if (!up) return null;
            const x = up.depth * step + 16; // the middle of the glyph, behind the gap
            const y = p.row * row + row / 2;
            const l = link(p.server);
            return (
              <path
                key={p.server.name}
                className={`fill-none stroke-2 ${paths[l.name] ?? ""}`}
                d={`M${x} ${up.row * row + row / 2 + 10}V${y - 10}L${x + 20} ${y}`}
              />
            );
          })}
          {places.map((p) => (
            <g
              key={p.server.name}
              className={healthClass(p.server.health)}
              transform={`translate(${p.depth * step + 8}, ${p.row * row + row / 2 - 8})`}
            >
              <rect className="fill-none" width="16" height="16" />
            </g>
          ))}
        </svg>
        <ul className="m-0 list-none p-0">
          {places.map(({ server: s, depth }) => {
            const l = link(s);
            return (
              <li
                key={s.name}
                className="flex items-center gap-2"
                style={{ height: row, marginLeft: (depth - deepest - 1) * step }}
              >
                <span className={healthClass(s.health)}>
                  <Glyph name={s.health} />
                </span>
                <span className="min-w-0 flex-1">
                  <Link to={`/clusters/${view.cluster}/${s.name}`}>{s.name}</Link> <Marks s={s} />
                  <span className={`note block ${l.name === "down" || l.name === "none" ? "c-halt" : ""}`}>
                    {l.word}
                  </span>
                </span>
                {s.may_take_over && (
                  <May do="operate">
                    <button className="btn sm" onClick={() => act({ kind: "switchover", to: s.name })}>
                      Make primary…
                    </button>
                  </May>
                )}
              </li>
            );
          })}
        </ul>
      </div>
    </section>
  );
}
