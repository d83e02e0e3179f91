import { useState, type ReactNode } from "react";
import type { components } from "../api/schema";
import { changed, clock } from "../words";
import { RowValues } from "./row-values";

export type Transaction = components["schemas"]["TailTransaction"];

const shownAtOnce = 12;

// TailTable lists what only one server has, newest first, with the values that
// the log or the salvage holds.
export function TailTable({
  transactions,
  server,
  saved,
}: {
  transactions: Transaction[];
  server: string;
  saved?: string;
}) {
  const [table, setTable] = useState("");
  const [shown, setShown] = useState(shownAtOnce);
  const newest = [...transactions]
    .reverse()
    .filter((t) => table === "" || (t.changes ?? []).some((c) => c.table === table));
  const tables = [...new Set(transactions.flatMap((t) => (t.changes ?? []).map((c) => c.table)))].sort();
  const rows = transactions.reduce(
    (n, t) => n + (t.changes ?? []).reduce((m, c) => m + c.inserts + c.updates + c.deletes, 0),
    0,
  );
  const lacking =
    !saved && transactions.some((t) => (t.rows ?? []).some((r) => r.trail && !r.after && r.kind !== "delete"));
  return (
    <section className="sec">
      <h2 className="h">
        The tail, newest first{" "}
        <span className="note">
          {transactions.length} transactions, {rows} rows
        </span>
        {tables.length > 1 && (
          <select
            className="field"
            aria-label="Only transactions that changed a table"
            value={table}
            onChange={(e) => setTable(e.target.value)}
          >
            <option value="">all tables</option>
            {tables.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        )}
      </h2>
      <div className="overflow-x-auto">
        <table className="tb tl">
          <thead>
            <tr>
              <th>written</th>
              <th>transaction</th>
              <th>row</th>
              <th>at the fork → on {server}</th>
            </tr>
          </thead>
          <tbody>
            {newest.slice(0, shown).flatMap((t, i) => {
              const list: [string, ReactNode][] = [
                ...(t.rows ?? []).map((r): [string, ReactNode] => [
                  `${r.kind} ${r.table}`,
                  <RowValues key="r" row={r} />,
                ]),
                ...((t.rows ?? []).length === 0
                  ? (t.changes ?? []).map((c): [string, ReactNode] => [c.table, changed(c)])
                  : []),
                ...(t.statements ?? []).map((s): [string, ReactNode] => ["statement", s]),
                ...(t.schema ? [["definitions", "changed"] as [string, ReactNode]] : []),
              ];
              return list.map(([what, values], k) => (
                <tr key={`${i}-${k}`} className={k + 1 < list.length ? "cont" : ""}>
                  <td className="nw c-2">{k === 0 && t.at ? clock(new Date(t.at)) : ""}</td>
                  <td className="nw">{k === 0 ? t.gtid || t.id : ""}</td>
                  <td className="nw">{what}</td>
                  <td>{values}</td>
                </tr>
              ));
            })}
          </tbody>
        </table>
      </div>
      <p className="note">
        Showing {Math.min(shown, newest.length)} of {newest.length}.{" "}
        {lacking && "This log names no values: what the tail left is listed once it is saved. "}
        {shown < newest.length && (
          <button className="btn sm" onClick={() => setShown(shown + shownAtOnce)}>
            Next {Math.min(shownAtOnce, newest.length - shown)}
          </button>
        )}
      </p>
    </section>
  );
}
