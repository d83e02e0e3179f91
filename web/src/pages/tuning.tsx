import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Request, type View } from "../api/client";
import { useView } from "../live";
import { Problem, Waiting } from "../parts/bits";
import { PlanDialog } from "../parts/plan-dialog";
import { May } from "../may";

// Change asks for the new value of one setting of one server.
function Change({
  server,
  setting,
  value,
  act,
}: {
  server: string;
  setting: string;
  value: string;
  act: (r: Request) => void;
}) {
  const [next, setNext] = useState<string>();
  if (next === undefined)
    return (
      <>
        <span className="mono">{value || "–"}</span>{" "}
        <May do="operate">
          <button className="btn sm" aria-label={`Change ${setting} of ${server}`} onClick={() => setNext(value)}>
            Change…
          </button>
        </May>
      </>
    );
  return (
    <form
      className="btns"
      onSubmit={(e) => {
        e.preventDefault();
        act({ kind: "set", server, setting, value: next });
        setNext(undefined);
      }}
    >
      <input
        className="field"
        autoFocus
        aria-label={`${setting} of ${server}`}
        value={next}
        onChange={(e) => setNext(e.target.value)}
      />
      <button className="btn sm go">Plan</button>
    </form>
  );
}

function Conflicts({ cluster }: { cluster: string }) {
  const q = useQuery({
    queryKey: ["conflicts", cluster],
    queryFn: () => take(api.GET("/api/v1/clusters/{cluster}/conflicts", { params: { path: { cluster } } })),
    refetchInterval: 5000,
  });
  if (q.isPending) return <Waiting what="Counting …" />;
  const causes = [...new Set((q.data?.servers ?? []).flatMap((s) => Object.keys(s.causes)))].sort();
  return (
    <section className="sec">
      <h2 className="h">{q.data?.says}</h2>
      <Problem error={q.error} />
      {causes.length > 0 && (
        <table className="tb">
          <thead>
            <tr>
              <th>replica</th>
              {causes.map((c) => (
                <th key={c} className="num">
                  {c}
                </th>
              ))}
              <th className="num">an hour</th>
            </tr>
          </thead>
          <tbody>
            {q.data?.servers.map((s) => (
              <tr key={s.server}>
                <th scope="row">{s.server}</th>
                {causes.map((c) => (
                  <td key={c} className="num">
                    {s.causes[c] ?? 0}
                  </td>
                ))}
                <td className="num">{s.per_hour.toFixed(0)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {(q.data?.trade ?? []).map((t) => (
        <p key={t} className="note">
          {t}
        </p>
      ))}
    </section>
  );
}

// Drift shows the settings in which the servers differ; with only, those that
// this one server has another value of than some other.
export function Drift({ cluster, only }: { cluster: string; only?: string }) {
  const q = useQuery({
    queryKey: ["drift", cluster],
    queryFn: () => take(api.GET("/api/v1/clusters/{cluster}/drift", { params: { path: { cluster } } })),
  });
  if (q.isPending) return <Waiting what="Asking every server for its settings …" />;
  const d = q.data;
  if (!d) return <Problem error={q.error} />;
  const unread = d.unasked ?? [];
  const known = unread.length > 0 ? "As far as could be read, " : "";
  const list = d.settings.filter(
    (s) => !only || Object.values(s.values).some((v) => s.values[only] !== undefined && v !== s.values[only]),
  );
  return (
    <section className="sec">
      <h2 className="h">
        {!only || unread.includes(only)
          ? d.sentence
          : `${known}${only} differs in ${list.length || "none"} of ${d.checked_settings} settings ` +
            "that matter at a role change."}
      </h2>
      <Problem error={q.error} />
      {only && !unread.includes(only) && unread.length > 0 && (
        <p className="note">The settings of {unread.join(", ")} could not be read.</p>
      )}
      <table className="tb">
        <tbody>
          {list.map((s) => (
            <tr key={s.name}>
              <td className="mono">{s.name}</td>
              <td>
                {Object.entries(s.values)
                  .map(([n, v]) => `${n}: ${v}`)
                  .join("; ")}
                <div className="note">{s.why}</div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Live({ view, act }: { view: View; act: (r: Request) => void }) {
  const q = useQuery({
    queryKey: ["cluster", view.cluster],
    queryFn: () => take(api.GET("/api/v1/clusters/{cluster}", { params: { path: { cluster: view.cluster } } })),
    refetchInterval: 2000,
  });
  const servers = q.data?.servers ?? [];
  const names = [...new Set(servers.flatMap((s) => Object.keys(s.observation?.config.live ?? {})))].sort();
  return (
    <section className="sec overflow-x-auto">
      <h2 className="h">
        Settings that can be changed here{" "}
        <span className="note">each change is a plan; what cannot be verified afterwards is undone</span>
      </h2>
      <table className="tb list">
        <thead>
          <tr>
            <th>setting</th>
            {servers.map((s) => (
              <th key={s.name}>{s.name}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {names.map((n) => (
            <tr key={n}>
              <td className="mono">{n === "delay" ? "delay, in seconds" : n}</td>
              {servers.map((s) => (
                <td key={s.name} data-l={s.name}>
                  {s.observation?.config.live?.[n] === undefined ? (
                    "–"
                  ) : (
                    <Change server={s.name} setting={n} value={s.observation.config.live[n] ?? ""} act={act} />
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

// Tuning: what moves lag, cancelled queries and kept log, with this cluster's
// own numbers.
export function Tuning() {
  const { name = "" } = useParams();
  const view = useView(name);
  const [request, setRequest] = useState<Request>();
  if (!view) return <Waiting what="Asking the service …" />;
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b>Settings and conflicts of {name}.</b>
        </h1>
        <div className="btns">
          <Link className="btn" to={`/clusters/${name}`}>
            Back to {name}
          </Link>
        </div>
      </section>
      <Conflicts cluster={name} />
      <Live view={view} act={setRequest} />
      <Drift cluster={name} />
      {request && <PlanDialog view={view} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}
