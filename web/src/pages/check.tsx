import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, take } from "../api/client";
import { Problem, Waiting } from "../parts/bits";
import { Checks } from "../parts/plan-dialog";

const purposes = ["switchover", "failover"];

// Check looks at everything that a role change needs, and changes nothing.
export function Check() {
  const { name = "" } = useParams();
  const [query, setQuery] = useSearchParams();
  const purpose = query.get("for") ?? "switchover";
  const q = useQuery({
    queryKey: ["check", name, purpose],
    queryFn: () =>
      take(
        api.GET("/api/v1/clusters/{cluster}/check", { params: { path: { cluster: name }, query: { for: purpose } } }),
      ),
    retry: false,
  });
  const checks = q.data?.checks ?? [];
  const bad = checks.filter((c) => c.result !== "pass").length;
  return (
    <>
      <section className="state">
        <h1 className="say">
          {q.data ? (
            <>
              <b className={bad > 0 ? "c-behind" : ""}>
                {name} is {bad === 0 ? "ready" : "not quite ready"} for a {purpose}.
              </b>{" "}
              {checks.length} checks, {bad === 0 ? "all pass" : `${bad} to look at`}.
            </>
          ) : (
            <b>Checks of {name}</b>
          )}
        </h1>
        <div className="btns">
          {purposes.map((p) => (
            <button key={p} className="pick" aria-pressed={p === purpose} onClick={() => setQuery({ for: p })}>
              for a {p}
            </button>
          ))}
          <button className="btn" onClick={() => void q.refetch()}>
            Look again
          </button>
          <Link className="btn" to={`/clusters/${name}`}>
            Open {name}
          </Link>
        </div>
      </section>
      {q.isFetching && <Waiting what="Looking at all servers …" />}
      <Problem error={q.error} />
      {q.data && <Checks checks={checks} open />}
    </>
  );
}
