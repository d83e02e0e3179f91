// The health glyphs are two strokes: the upper is the current history, the lower
// is this server. A glyph never stands without its word.
import type { ReactNode } from "react";

const shapes: Record<string, ReactNode> = {
  "takes writes": <path className="f" d="M1 5H10L15 8L10 11H1Z" />,
  "in step": <path d="M1 5H15M1 11H15" />,
  behind: <path d="M1 5H15M1 11H8" />,
  stalled: <path d="M1 5H15M1 11H6M8 8V14" />,
  adrift: <path d="M1 5H15M4 5L9 12H15" />,
  seeding: (
    <>
      <path d="M1 4H15" />
      <rect className="t" x="1.7" y="8.2" width="12.6" height="5.6" />
      <rect className="f" x="1.7" y="8.2" width="6.5" height="5.6" />
    </>
  ),
  fenced: <path d="M1 5H15M1 11H15M3 8L13 14" />,
  stopped: <path d="M1 5H15M5 9H11V14H5Z" />,
  unseen: (
    <>
      <path d="M1 5H15" />
      <path d="M1 11H15" strokeDasharray="2.2 3.7" />
    </>
  ),
  "takes no writes": <path d="M1 5H10L15 8L10 11H1ZM2 14L14 2" />,
  pass: <path d="M2 8.5L6.2 12.5L14 4" />,
  warn: <path d="M8 2L15 14H1ZM8 6V10M8 11.5V13" />,
  fail: <path d="M2 2H14V14H2ZM5 8H11" />,
  role: <path d="M1 4L15 12M1 12L15 4" />,
};

const classes: Record<string, string> = {
  "takes writes": "is-write",
  "in step": "is-ok",
  behind: "is-behind",
  stalled: "is-stalled",
  adrift: "is-adrift",
  seeding: "is-seeding",
  fenced: "is-fenced",
  stopped: "is-stopped",
  unseen: "is-unseen",
  "takes no writes": "is-halt",
};

export const healthClass = (health: string) => classes[health] ?? "is-ok";

export function Glyph({ name, px = 16 }: { name: string; px?: number }) {
  return (
    <svg className="g" width={px} height={px} viewBox="0 0 16 16" aria-hidden="true">
      {shapes[name] ?? shapes["in step"]}
    </svg>
  );
}

export function HealthWord({ health, why }: { health: string; why?: string }) {
  return (
    <span className={`hw ${healthClass(health)}`} title={why}>
      <Glyph name={health} />
      {health}
    </span>
  );
}

export function Verdict({ result, word = result }: { result: string; word?: string }) {
  return (
    <span className={`v ${result}`}>
      <Glyph name={result} />
      {word}
    </span>
  );
}

// Marked sets the parts of a sentence that name what is wrong in its colour.
export function Sentence({ text, health }: { text: string; health: string }) {
  const end = text.indexOf(". ") + 1;
  const [first, rest] = end > 0 ? [text.slice(0, end), text.slice(end)] : [text, ""];
  const tone =
    health === "in step" || health === "takes writes"
      ? ""
      : healthClass(health)
          .replace("is-", "c-")
          .replace("stalled", "halt")
          .replace("unseen", "halt")
          .replace("seeding", "seed")
          .replace("fenced", "slate")
          .replace("stopped", "slate");
  return (
    <>
      <b className={tone}>{first}</b>
      {rest}
    </>
  );
}
