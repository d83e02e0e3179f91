import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Request, type View } from "../api/client";
import { useView } from "../live";
import { Command, Facts, Problem, Waiting } from "../parts/bits";
import { HealthWord } from "../parts/glyphs";
import { enrolment } from "../parts/enrolment";
import { PlanDialog } from "../parts/plan-dialog";
import { RemoveDialog } from "../parts/remove-dialog";
import { insisted, taken } from "../names";
import { known, rank, said, size, span, when } from "../words";
import { LogFiles } from "./log";
import { Drift } from "./tuning";
import { May, useMay } from "../may";

function Complaints({ cluster, server }: { cluster: string; server: string }) {
  const q = useQuery({
    queryKey: ["complaints", cluster, server],
    queryFn: () =>
      take(
        api.GET("/api/v1/clusters/{cluster}/servers/{server}/complaints", { params: { path: { cluster, server } } }),
      ),
    refetchInterval: 10000,
    retry: false,
  });
  const list = q.data?.complaints ?? [];
  return (
    <section className="sec">
      <h2 className="h">
        Recent warnings and errors <span className="note">of its own error log, newest first</span>
      </h2>
      <Problem error={q.error} />
      {q.data && list.length === 0 && <p className="note">None.</p>}
      <ul className="ops max-h-90 overflow-auto">
        {list.map((c, i) => (
          <li key={i}>
            <span />
            <span className={c.level === "warning" ? "" : "c-halt"}>
              {c.level}: {c.text}
            </span>
            <span className="num c-2">{when(c.at)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

// Links draws whom the server follows and who follows it.
function LinkPicture({ view, server }: { view: View; server: string }) {
  const s = view.servers.find((x) => x.name === server);
  const down = view.servers.filter((x) => x.follows === server && x.role !== "primary");
  const up = s && s.role !== "primary" ? s.follows : "";
  const height = Math.max(1, down.length) * 44 + 8;
  const middle = height / 2;
  const box = (name: string, x: number, y: number, self = false) => (
    <g key={name + x}>
      <rect
        x={x}
        y={y - 15}
        width="150"
        height="30"
        rx="2"
        fill="var(--panel)"
        stroke={self ? "var(--ink)" : "var(--edge)"}
        strokeWidth={self ? 2 : 1}
      />
      <text x={x + 75} y={y + 5} textAnchor="middle" fill="var(--ink)" fontWeight={self ? 700 : 400}>
        {name}
      </text>
    </g>
  );
  const wire = (x: number, from: number, to: number, good: boolean) => (
    <path
      key={`${x}-${to}`}
      d={`M${x} ${from}H${x + 20}L${x + 40} ${to}H${x + 60}`}
      fill="none"
      stroke={good ? "var(--band)" : "var(--halt-f)"}
      strokeWidth="2"
      strokeDasharray={good ? undefined : "3 3"}
    />
  );
  const well = (h: string) => h === "in step" || h === "behind" || h === "takes writes";
  const names = down.map((d) => d.name).join(", ");
  const words = [
    up ? `${server} follows ${up}. ` : "",
    down.length === 0 ? "Nobody follows" : `${names} ${down.length === 1 ? "follows" : "follow"}`,
    ` ${server}.`,
  ].join("");
  return (
    <svg width="100%" viewBox={`0 0 570 ${height}`} style={{ maxWidth: 570 }} role="img" aria-label={words}>
      <title>{words}</title>
      {up && wire(150, middle, middle, !!s && well(s.health))}
      {up && box(up, 0, middle)}
      {down.map((d, i) => wire(360, middle, 26 + i * 44, well(d.health)))}
      {down.map((d, i) => box(d.name, 420, 26 + i * 44))}
      {box(server, 210, middle, true)}
    </svg>
  );
}

// Server is the page of one server. The dialog that removes it stands beside the page,
// since it tells what stays when the server is gone.
export function Server() {
  const { name = "", server = "" } = useParams();
  const [removing, setRemoving] = useState(false);
  const navigate = useNavigate();
  return (
    <>
      <One name={name} server={server} remove={() => setRemoving(true)} />
      {removing && (
        <RemoveDialog
          cluster={name}
          server={server}
          close={() => setRemoving(false)}
          gone={() => navigate(`/clusters/${name}`)}
        />
      )}
    </>
  );
}

function One({ name, server, remove }: { name: string; server: string; remove: () => void }) {
  const may = useMay();
  const view = useView(name);
  const [request, setRequest] = useState<Request>();
  const q = useQuery({
    queryKey: ["cluster", name],
    queryFn: () => take(api.GET("/api/v1/clusters/{cluster}", { params: { path: { cluster: name } } })),
    refetchInterval: 2000,
  });
  const path = { cluster: name, server };
  const code = useMutation({
    mutationFn: () => take(api.POST("/api/v1/clusters/{cluster}/servers/{server}/code", { params: { path } })),
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
  const link = s.name === view?.primary ? undefined : o?.links.upstream;
  return (
    <>
      <section className="state flex flex-wrap">
        <h1 className="say grow basis-[460px]">
          <b>
            {server} {said(s.health)}
          </b>
          {s.why ? `: ${s.why}.` : "."}{" "}
          {!s.reports_as
            ? `It does not run; its role in ${name} is ${s.role}.`
            : s.reports_as === s.role
              ? `It is ${s.role === "primary" ? "the primary" : "a replica"} and reports itself as ${s.role}.`
              : `It reports itself as ${s.reports_as}; its role in ${name} is ${s.role}.`}
          {s.diagnosis && s.diagnosis !== s.why ? ` Where the bytes wait: ${s.diagnosis}.` : ""}
        </h1>
        {view && may("operate") && (
          <div className="btns">
            <button className="btn" onClick={() => setRequest({ kind: "restart", server })}>
              Restart…
            </button>
            {s.name !== view.primary && (
              <>
                <Link className="btn" to={`/clusters/${name}/${server}/rejoin`}>
                  Rejoin…
                </Link>
                <button className="btn" onClick={() => setRequest({ kind: "seed", server })}>
                  Seed…
                </button>
                <button className="btn" onClick={() => setRequest({ kind: "salvage", server })}>
                  Save its tail…
                </button>
                {link && o?.encryption && link.proof !== "verified" && (
                  <button className="btn" onClick={() => setRequest({ kind: "encrypt" })}>
                    Encrypt replication…
                  </button>
                )}
                <select
                  className="field"
                  aria-label={`Have ${server} follow`}
                  value=""
                  onChange={(e) => e.target.value && setRequest({ kind: "follow", server, to: e.target.value })}
                >
                  <option value="">Follow…</option>
                  {view.servers
                    .filter((x) => x.name !== server && x.name !== s.follows)
                    .map((x) => (
                      <option key={x.name}>{x.name}</option>
                    ))}
                </select>
                <May do="admin">
                  <button className="btn" onClick={() => code.mutate()}>
                    New enrolment code
                  </button>
                  <button className="btn risk" onClick={remove}>
                    Remove…
                  </button>
                </May>
              </>
            )}
          </div>
        )}
        <Facts
          list={[
            ["health", <HealthWord key="h" health={s.health} />],
            ["rank", rank(s.rank) + (s.hidden ? ", hidden from readers" : "")],
            ["site", s.site || "–"],
            ["address", s.address || "–"],
            ...(s.clients ? [["address for clients", s.clients] as [string, string]] : []),
            ["agent", o?.agent?.version ? `${s.agent}, version ${o.agent.version}` : s.agent || "–"],
            ["version", o?.process.version || "–"],
            ["data", known(o?.data.bytes)],
            ["disk free", known(o?.host.disk_free_bytes)],
            ["connected clients", o?.process.connected_clients ?? "–"],
            ["delayed by", s.delay_seconds > 0 ? span(s.delay_seconds) : "no"],
            ["clock", s.clock_skew_seconds === 0 ? "right" : `${s.clock_skew_seconds.toFixed(1)} s off`],
            ["certificate until", o?.certificate_ends ? when(o.certificate_ends) : "–"],
            ["connections", taken[o?.encryption?.state ?? ""]],
            ...(link ? [["link", insisted[link.proof ?? ""]] as [string, string]] : []),
          ]}
        />
      </section>
      <Problem error={code.error} />
      {code.data && (
        <section className="sec">
          <h2 className="h">On {server}’s host, as root</h2>
          <Command>{enrolment(code.data.code)}</Command>
        </section>
      )}
      <div className="cols">
        <section className="sec overflow-x-auto">
          <h2 className="h">Links</h2>
          {view && <LinkPicture view={view} server={server} />}
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
              {o?.links.upstream?.host && (
                <tr>
                  <td>follows</td>
                  <td>{s.follows}</td>
                  <td>
                    {[
                      o.links.upstream.connected ? "connected" : "not connected",
                      o.links.upstream.problem,
                      o.links.upstream.applier_problem,
                    ]
                      .filter(Boolean)
                      .join(": ")}
                  </td>
                  <td className="mono">{o.log.received}</td>
                </tr>
              )}
              {(o?.links.downstreams ?? []).map((d) => (
                <tr key={d.name}>
                  <td>feeds</td>
                  <td>{d.name}</td>
                  <td>{d.state}</td>
                  <td className="mono">{d.safe}</td>
                </tr>
              ))}
              {(o?.links.slots ?? []).map((x) => (
                <tr key={x.name}>
                  <td>{x.database ? "logical slot" : "slot"}</td>
                  <td>{x.database ? `${x.name} (${x.database})` : x.name}</td>
                  <td>
                    {x.active ? "read" : "read by nobody"}, keeps {size(x.kept_bytes)}
                  </td>
                  <td className="mono">{x.restart}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        <Drift cluster={name} only={server} />
      </div>
      <section className="sec">
        <h2 className="h">
          Log files{" "}
          <span className="note">
            newest first; <Link to={`/clusters/${name}/log?server=${server}`}>read them</Link>
          </span>
        </h2>
        <LogFiles cluster={name} server={server} needs={server === q.data?.primary} />
      </section>
      <Complaints cluster={name} server={server} />
      <p>
        <Link to={`/clusters/${name}`}>Back to {name}</Link>
      </p>
      {request && view && <PlanDialog view={view} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}
