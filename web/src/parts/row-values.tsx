import type { components } from "../api/schema";

// RowValues shows a changed row before and after; of an update only what
// changed, and the first column, which mostly is the key.
export function RowValues({ row }: { row: components["schemas"]["VerbRowChange"] }) {
  return (
    <>
      {row.columns.map((c, k) => {
        const [a, b] = [row.before?.[k], row.after?.[k]];
        if (row.kind === "update" && a === b && k > 0) return null;
        return (
          <span key={c}>
            {c} {a !== undefined && <span className={row.kind === "update" && a === b ? "" : "from"}>{a}</span>}
            {row.kind === "update" && a !== b && <span className="ar">→</span>}
            {b !== undefined && a !== b && <span className="to">{b}</span>}{" "}
          </span>
        );
      })}
    </>
  );
}
