// The ways back of a server, with the reason of each; one that is not possible
// stays readable.
import type { ReactNode } from "react";
import type { Plan } from "../api/client";
import { span } from "../words";
import { Verdict } from "./glyphs";

const pictures: Record<string, ReactNode> = {
  follow: <path className="n" d="M20 8L46 21H80" />,
  rewind: (
    <>
      <path className="gone" d="M20 10L46 23H80" />
      <path className="k" d="M80 29H42L20 18M27 26L20 18L30.5 18.2" />
    </>
  ),
  rebuild: (
    <>
      <rect className="o" x=".5" y="19.5" width="83" height="9" />
      <rect className="sd" x=".5" y="19.5" width="34" height="9" />
    </>
  ),
};

export function Ways({ plan, server, choose }: { plan: Plan; server: string; choose: (way: string) => void }) {
  const ways = plan.ways ?? [];
  return (
    <div className="ways" role="radiogroup" aria-label="Way back">
      {ways.map((w) => (
        <div key={w.name} className={w.chosen ? "on" : ""}>
          <input
            className="radio"
            type="radio"
            name="way"
            id={`way-${w.name}`}
            checked={w.chosen}
            disabled={!w.possible}
            onChange={() => choose(w.name)}
          />
          <svg className="wd" width="84" height="34" viewBox="0 0 84 34" aria-hidden="true">
            <path className="t" d="M0 8H84" />
            {pictures[w.name]}
          </svg>
          <label htmlFor={`way-${w.name}`}>
            <span className="nm">{w.name[0]?.toUpperCase() + w.name.slice(1)}</span> &ensp;
            <Verdict result={w.possible ? "pass" : "fail"} word={w.possible ? "possible" : "not possible"} />
            <div className="note">{w.why}</div>
          </label>
          <span className="est">
            {w.chosen && plan.steps.length
              ? `about ${span(plan.steps.reduce((n, s) => n + s.expected_seconds, 0))}`
              : ""}
          </span>
        </div>
      ))}
      {ways.length === 0 && <p className="note">No way back of {server} can be told: see the checks.</p>}
    </div>
  );
}
