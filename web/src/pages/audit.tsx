import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";
import { Problem, Waiting } from "../parts/bits";
import { when } from "../words";

export function Audit() {
  const q = useQuery({
    queryKey: ["audit"],
    queryFn: () => take(api.GET("/api/v1/audit", { params: { query: { limit: "200" } } })),
    refetchInterval: 5000,
  });
  return (
    <>
      <section className="fl-head">
        <h1 className="say">
          <b>Audit trail</b>: who asked for what, from where, newest first.
        </h1>
      </section>
      {q.isPending && <Waiting what="Reading the records …" />}
      <Problem error={q.error} />
      <div className="overflow-x-auto">
        <table className="tb list">
          <thead>
            <tr>
              <th>time</th>
              <th>who</th>
              <th>from</th>
              <th>what</th>
              <th>of</th>
              <th>details</th>
            </tr>
          </thead>
          <tbody>
            {(q.data?.events ?? []).map((e) => (
              <tr key={e.id}>
                <td className="nw">{when(e.at)}</td>
                <td>{e.who}</td>
                <td className="mono">{e.from}</td>
                <td>{e.action}</td>
                <td>{e.target}</td>
                <td className="c-2">{e.detail}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
