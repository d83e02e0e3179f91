import type { components } from "../api/schema";

// RowValues shows a changed row before and after; of an update only what
// changed, and the first column, which mostly is the key. Where a side cannot be
// read, a note says why.
export function RowValues({ row }: { row: components["schemas"]["TailRowChange"] }) {
  return (
    <>
      {row.columns.map((c, k) => {
        const [a, b] = [row.before?.[k], row.after?.[k]];
        const both = a !== undefined && b !== undefined;
        if (both && a === b && k > 0) return null;
        return (
          <span key={c}>
            {c} {a !== undefined && <span className={both && a === b ? "" : "from"}>{a}</span>}
            {both && a !== b && <span className="ar">→</span>}
            {b !== undefined && a !== b && <span className="to">{b}</span>}{" "}
          </span>
        );
      })}
      {row.columns.length === 0 && !row.note && <span className="note">listed once it is saved</span>}
      {row.note && <span className="note">{row.note}</span>}
    </>
  );
}
