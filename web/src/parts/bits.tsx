import type { ReactNode } from "react";
import { Refusal } from "../api/client";

// Problem shows what went wrong in the service's own words.
export function Problem({ error }: { error: unknown }) {
  if (!error) return null;
  const text = error instanceof Error ? error.message : String(error);
  return (
    <div className="border-l-4 border-(--halt-f) bg-(--halt-t) px-3 py-2 wrap-anywhere" role="alert">
      <b>{error instanceof Refusal ? error.problem.title : "Internal error"}</b>
      <p>{text}</p>
    </div>
  );
}

// NotBegun says why a plan was not begun: it has changed since it was shown, and
// in what; or else the error.
export function NotBegun({ changes, error }: { changes: string[]; error: unknown }) {
  if (changes.length === 0) return <Problem error={error} />;
  return (
    <div className="c-halt" role="alert">
      <b>The plan has changed since it was shown: nothing was changed yet. Read it and start again.</b>
      <ul>
        {changes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
    </div>
  );
}

export function Facts({ list }: { list: [string, ReactNode][] }) {
  return (
    <dl className="facts basis-full">
      {list.map(([k, v]) => (
        <div key={k}>
          <dt>{k}</dt> <dd>{v}</dd>
        </div>
      ))}
    </dl>
  );
}

export function Waiting({ what }: { what: string }) {
  return (
    <p className="note" role="status" aria-live="polite">
      {what}
    </p>
  );
}

// Command is something to be copied, as it stands.
export function Command({ children }: { children: string }) {
  return (
    <div className="my-1.5 rounded-(--radius) bg-sunk px-2.5 py-2">
      <pre className="m-0 font-(family-name:--mono) text-[12px] wrap-anywhere whitespace-pre-wrap">{children}</pre>
    </div>
  );
}

// ShownOnce shows a secret that nobody can read again.
export function ShownOnce({ what, value }: { what: string; value: string }) {
  return (
    <>
      <p>
        <b>Shown this once:</b> {what}
      </p>
      <Command>{value}</Command>
    </>
  );
}
