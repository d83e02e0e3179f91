import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, take } from "../api/client";
import { Problem, Waiting } from "../parts/bits";
import { span, when } from "../words";
import { kinds } from "../names";

export function Operations() {
  const [query, setQuery] = useSearchParams();
  const [cluster, kind, state] = ["cluster", "kind", "state"].map((k) => query.get(k) ?? "");
  const list = useQuery({
    queryKey: ["operations", cluster, kind, state],
    queryFn: () =>
      take(
        api.GET("/api/v1/operations", {
          params: {
            query: { cluster: cluster || undefined, kind: kind || undefined, state: state || undefined, limit: "200" },
          },
        }),
      ),
  });
  const text = query.get("find") ?? "";
  const found = (list.data?.operations ?? []).filter((o) =>
    `${o.id} ${o.cluster} ${o.kind} ${o.plan.summary} ${o.message ?? ""} ${o.asked_by} ${o.outcome ?? o.state}`
      .toLowerCase()
      .includes(text.toLowerCase()),
  );
  const set = (k: string, v: string) => {
    const next = new URLSearchParams(query);
    if (v) next.set(k, v);
    else next.delete(k);
    setQuery(next);
  };
  const select = (k: string, value: string | undefined, options: string[]) => (
    <label>
      <span className="c-3">{k}</span>{" "}
      <select className="field" value={value} onChange={(e) => set(k, e.target.value)}>
        <option value="">all</option>
        {options.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
    </label>
  );
  return (
    <>
      <section className="fl-head">
        <h1 className="say">
          <b>Operations</b>, newest first.
        </h1>
        <a
          className="btn sm"
          href={`data:application/json,${encodeURIComponent(JSON.stringify(found, null, 1))}`}
          download="operations.json"
        >
          Export as JSON
        </a>
      </section>
      <div className="filter">
        <label className="find">
          <span className="vh">Find in what operations say</span>
          <input
            className="field pl-2.5"
            placeholder="Find a server, a person, words"
            value={text}
            onChange={(e) => set("find", e.target.value)}
          />
        </label>
        <label>
          <span className="c-3">cluster</span>{" "}
          <input className="field" value={cluster} onChange={(e) => set("cluster", e.target.value)} />
        </label>
        {select("kind", kind, Object.keys(kinds))}
        {select("state", state, ["running", "finished", "undone", "refused", "needs you"])}
      </div>
      <Problem error={list.error} />
      {list.isPending && <Waiting what="Reading the records …" />}
      <div className="overflow-x-auto">
        <table className="tb list">
          <thead>
            <tr>
              <th className="num">no.</th>
              <th>cluster</th>
              <th>operation</th>
              <th>outcome</th>
              <th>began</th>
              <th className="num">took</th>
              <th className="num">writes paused</th>
              <th>asked for by</th>
              <th>in words</th>
            </tr>
          </thead>
          <tbody>
            {found.map((o) => (
              <tr key={o.id}>
                <td className="num">
                  <Link to={`/operations/${o.id}`}>{o.id}</Link>
                </td>
                <td>{o.cluster}</td>
                <td>
                  {kinds[o.kind].noun} {o.plan.candidate ?? o.plan.target}
                </td>
                <td className={o.outcome === "needs you" ? "c-halt" : ""}>{o.outcome || o.state}</td>
                <td className="nw">{when(o.created_at)}</td>
                <td className="num">
                  {o.ended_at ? span((Date.parse(o.ended_at) - Date.parse(o.created_at)) / 1000) : "–"}
                </td>
                <td className="num">{o.pause_seconds > 0 ? span(o.pause_seconds) : "–"}</td>
                <td>{o.asked_by}</td>
                <td className="c-2">{o.message}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {list.data && found.length === 0 && <p className="note">None that fits.</p>}
    </>
  );
}
