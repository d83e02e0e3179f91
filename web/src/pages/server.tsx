import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Request } from "../api/client";
import { useView } from "../live";
import { Facts, Problem, Waiting } from "../parts/bits";
import { HealthWord } from "../parts/glyphs";
import { enrolment } from "../parts/enrolment";
import { PlanDialog } from "../parts/plan-dialog";
import { rank, size } from "../words";

export function Server() {
  const { name = "", server = "" } = useParams();
  const view = useView(name);
  const [request, setRequest] = useState<Request>();
  const q = useQuery({
    queryKey: ["cluster", name],
    queryFn: () => take(api.GET("/api/v1/clusters/{cluster}", { params: { path: { cluster: name } } })),
    refetchInterval: 2000,
  });
  const navigate = useNavigate();
  const path = { cluster: name, server };
  const code = useMutation({ mutationFn: () => take(api.POST("/api/v1/clusters/{cluster}/servers/{server}/code", { params: { path } })) });
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/clusters/{cluster}/servers/{server}", { params: { path } })),
    onSuccess: () => navigate(`/clusters/${name}`),
  });
  if (q.isPending) return <Waiting what="Asking the service …" />;
  const s = q.data?.servers.find((x) => x.name === server);
  if (!s)
    return q.error ? (
      <Problem error={q.error} />
    ) : (
      <p className="say">
        {name} has no server “{server}”.
      </p>
    );
  const o = s.observation;
  const owner = q.data?.servers.find((x) => x.name === q.data.primary)?.observation;
  const differ = Object.keys(o?.settings ?? {}).filter((k) => owner?.settings && owner.settings[k] !== undefined && owner.settings[k] !== o?.settings?.[k]);
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b>
            {server} is {s.health}
          </b>
          {s.why ? `: ${s.why}.` : "."} It believes itself {s.believes || "nothing, because it does not run"} and is held for the {s.role}.
        </h1>
        {view && s.name !== view.primary && (
          <div className="btns">
            <button className="btn" onClick={() => setRequest({ kind: "rejoin", server })}>
              Rejoin…
            </button>
            <button className="btn" onClick={() => setRequest({ kind: "seed", server })}>
              Seed…
            </button>
            <button className="btn" onClick={() => setRequest({ kind: "salvage", server })}>
              Save its tail…
            </button>
            <button className="btn" onClick={() => code.mutate()}>
              New enrolment code
            </button>
            <button
              className="btn risk"
              onClick={() => confirm(`Forget ${server}? Its database goes on as it is; Cross Twin no longer looks after it.`) && remove.mutate()}
            >
              Remove
            </button>
          </div>
        )}
        <Facts
          list={[
            ["health", <HealthWord key="h" health={s.health} />],
            ["rank", rank(s.rank)],
            ["site", s.site || "–"],
            ["address", s.address || "–"],
            ["agent", s.agent || "–"],
            ["version", o?.version || "–"],
            ["data", o?.data_bytes ? size(o.data_bytes) : "–"],
            ["disk free", o?.disk_free_bytes ? size(o.disk_free_bytes) : "–"],
            ["clients", o?.connected_clients ?? "–"],
          ]}
        />
      </section>
      <Problem error={code.error ?? remove.error} />
      {code.data && (
        <section className="sec">
          <h2 className="h">On {server}’s host, as root</h2>
          <pre className="cmd">{enrolment(q.data?.engine ?? "", code.data.code)}</pre>
        </section>
      )}
      <div className="cols">
        <section className="sec scroll">
          <h2 className="h">Links</h2>
          <table className="tb">
            <thead>
              <tr>
                <th>direction</th>
                <th>with</th>
                <th>state</th>
                <th>position</th>
              </tr>
            </thead>
            <tbody>
              {o?.upstream?.host && (
                <tr>
                  <td>follows</td>
                  <td>{s.follows}</td>
                  <td>
                    {o.upstream.connected ? "connected" : "not connected"} {o.upstream.problem} {o.upstream.applier_problem}
                  </td>
                  <td className="mono">{o.received}</td>
                </tr>
              )}
              {(o?.downstreams ?? []).map((d) => (
                <tr key={d.name}>
                  <td>feeds</td>
                  <td>{d.name}</td>
                  <td>{d.state}</td>
                  <td className="mono">{d.safe}</td>
                </tr>
              ))}
              {(o?.slots ?? []).map((x) => (
                <tr key={x.name}>
                  <td>slot</td>
                  <td>{x.name}</td>
                  <td>
                    {x.active ? "read" : "read by nobody"}, keeps {size(x.kept_bytes)}
                  </td>
                  <td className="mono">{x.restart}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {(o?.log_files ?? []).length > 0 && (
            <>
              <h2 className="h">Log files</h2>
              <table className="tb">
                <tbody>
                  {(o?.log_files ?? []).map((f) => (
                    <tr key={f.name}>
                      <td className="mono">{f.name}</td>
                      <td className="num">{size(f.bytes)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </>
          )}
        </section>
        <section className="sec">
          <h2 className="h">
            Settings that differ from {q.data?.primary} <span className="note">of {Object.keys(o?.settings ?? {}).length} that matter at a role change</span>
          </h2>
          {differ.length === 0 && <p className="note">{o?.settings ? "None." : "Looked at with the next plan or check."}</p>}
          <table className="tb">
            <tbody>
              {differ.map((k) => (
                <tr key={k}>
                  <td className="mono">{k}</td>
                  <td>{o?.settings?.[k]}</td>
                  <td className="c-3">{owner?.settings?.[k]}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
      <p>
        <Link to={`/clusters/${name}`}>Back to {name}</Link>
      </p>
      {request && view && <PlanDialog view={view} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}
