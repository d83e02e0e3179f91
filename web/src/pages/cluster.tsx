import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Request, type View } from "../api/client";
import { useLoaded, useView } from "../live";
import { kinds } from "../names";
import { Facts, Waiting } from "../parts/bits";
import { Gates } from "../parts/gates";
import { Glyph, HealthWord, Sentence } from "../parts/glyphs";
import { HistoryChart } from "../parts/history-chart";
import { PlanDialog } from "../parts/plan-dialog";
import { Ribbon } from "../parts/ribbon";
import { Topology } from "../parts/topology";
import { behind, engineName, rank, size, span, when } from "../words";
import { May, useMay } from "../may";

function Legend({ synchronous }: { synchronous: boolean }) {
  return (
    <div className="legend" aria-hidden="true">
      <span>
        <svg width="24" height="12">
          <rect width="22" height="12" fill="var(--band)" />
          <path d="M23 0V12" stroke="var(--ink)" strokeWidth="2" />
        </svg>
        applied
      </span>
      <span>
        <svg width="22" height="12">
          <rect x=".5" y=".5" width="21" height="11" fill="none" stroke="var(--band)" />
          <path d="M2 11L12 1M10 11L20 1" stroke="var(--band)" />
        </svg>
        received, not applied
      </span>
      <span>
        <svg width="22" height="12">
          <rect x=".5" y="3" width="21" height="6" fill="none" stroke="var(--band)" strokeDasharray="1 2" />
        </svg>
        sent, not yet safe
      </span>
      <span>
        <svg width="22" height="12">
          <path d="M0 6H22" stroke="var(--band)" strokeWidth="2" strokeDasharray="3 3" />
        </svg>
        not yet sent
      </span>
      {synchronous && <span>✓ acknowledges commits</span>}
    </div>
  );
}

function Recent({ cluster }: { cluster: string }) {
  const list = useQuery({
    queryKey: ["operations", cluster],
    queryFn: () => take(api.GET("/api/v1/operations", { params: { query: { cluster, limit: "5" } } })),
  });
  const operations = list.data?.operations ?? [];
  return (
    <section className="sec">
      <h2 className="h">
        Recent operations <Link to={`/operations?cluster=${cluster}`}>All</Link>
      </h2>
      <ul className="ops">
        {operations.map((o) => (
          <li key={o.id}>
            <Glyph name={kinds[o.kind].glyph} />
            <Link to={`/operations/${o.id}`}>
              {kinds[o.kind].noun}
              {o.plan.candidate ? ` to ${o.plan.candidate}` : o.plan.target ? ` of ${o.plan.target}` : ""}
            </Link>
            <span className="num c-2">{when(o.created_at)}</span>
            <span className="note">
              {o.outcome || o.state}
              {o.message ? `: ${o.message}` : ""}
            </span>
          </li>
        ))}
      </ul>
      {operations.length === 0 && <p className="note">None yet.</p>}
    </section>
  );
}

// Fix is the button or link that opens what puts a problem right; the command
// for it stands beside.
function Fix({ problem, view, act }: { problem: View["problems"][number]; view: View; act: (r: Request) => void }) {
  const { kind, server, to } = problem.fix ?? {};
  const may = useMay();
  if (!kind || !may("operate")) return null;
  if (kind === "rejoin" && server)
    return (
      <Link className="btn sm" to={`/clusters/${view.cluster}/${server}/rejoin`}>
        Rejoin {server}…
      </Link>
    );
  return (
    <button className="btn sm" onClick={() => act({ kind, server, to })}>
      {kinds[kind].title} {server ?? to ?? view.cluster}…
    </button>
  );
}

// FencingOpen asks what nobody has decided for a cluster that could have fencing.
function FencingOpen({ view }: { view: View }) {
  const may = useMay();
  if (
    !view.policy.fencing_open ||
    !view.primary ||
    view.servers.length + (view.referees?.length ?? 0) < 3 ||
    !may("admin")
  )
    return null;
  return (
    <p className="note">
      Nobody has decided yet whether {view.cluster} is to have fencing:{" "}
      <Link to={`/clusters/${view.cluster}/policy`}>decide it</Link>
    </p>
  );
}

function Troubles({ view, act }: { view: View; act: (r: Request) => void }) {
  if (view.problems.length === 0) return null;
  return (
    <section className="sec">
      <h2 className="h">What is wrong, and what to do</h2>
      <ul className="ops">
        {view.problems.map((p, i) => (
          <li key={i}>
            <Glyph name="warn" />
            <b>{p.text}</b>
            <span className="num c-3">{p.rule}</span>
            <span className="note">
              <Fix problem={p} view={view} act={act} /> {p.mend && `Fix: ${p.mend}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

// permitted is who may take writes under fencing, and for how long.
function permitted({ permission: p }: View): [string, React.ReactNode][] {
  if (!p) return [];
  const alone = p.silent.length > 0 && "; losing the service now stops writes";
  return [["permission", `${p.server}, ${p.seconds > 0 ? `${span(p.seconds)} left` : "none"}${alone || ""}`]];
}

// waited is whom commits wait for, and whether that holds.
function waited({ synchronous: s }: View): [string, React.ReactNode][] {
  if (!s || s.mode === "none") return [];
  const list =
    s.list.need < s.list.names.length ? `${s.list.need} of ${s.list.names.join(", ")}` : s.list.names.join(", ");
  return [["commits wait for", s.safe ? list : `${list}; not proven now`]];
}

function Servers({ view, act }: { view: View; act: (r: Request) => void }) {
  const may = useMay();
  return (
    <section className="sec [&_td]:whitespace-nowrap [&_th]:whitespace-nowrap overflow-x-auto">
      <h2 className="vh">Servers</h2>
      <table className="tb list">
        <thead>
          <tr>
            <th className="num">rank</th>
            <th>server</th>
            <th>role</th>
            <th>health</th>
            <th>site</th>
            <th>position</th>
            <th>history</th>
            <th className="num">bytes behind</th>
            <th className="num">time behind</th>
            <th className="num">last contact</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {view.servers.map((s) => (
            <tr key={s.name}>
              <td className="num c-2" data-l="rank">
                {rank(s.rank)}
                {s.hidden && <div className="note">hidden</div>}
              </td>
              <th scope="row">
                <Link to={`/clusters/${view.cluster}/${s.name}`}>{s.name}</Link>
              </th>
              <td>
                <span className={s.role === "primary" ? "role p" : "role"}>{s.role}</span>
              </td>
              <td>
                <HealthWord health={s.health} why={s.why} />
                {s.notes?.map((note) => (
                  <div key={note} className="note">
                    {note}
                  </div>
                ))}
              </td>
              <td>{s.site}</td>
              <td className="mono">{s.position || "–"}</td>
              <td>{s.history || "–"}</td>
              <td className="num" data-l="bytes behind">
                {s.role === "primary" ? "–" : size(s.lag_bytes)}
              </td>
              <td className="num" data-l="time behind">
                {s.role === "primary" ? "–" : behind(s.lag)}
              </td>
              <td className="num" data-l="last contact">
                {s.last_contact_seconds < 2 && s.last_contact_seconds >= 0 ? "now" : span(s.last_contact_seconds)}
              </td>
              <td className="num">
                {s.name !== view.primary && may("operate") && (
                  <span className="btns">
                    <Link className="btn sm" to={`/clusters/${view.cluster}/${s.name}/rejoin`}>
                      Rejoin…
                    </Link>
                    <button className="btn sm" onClick={() => act({ kind: "seed", server: s.name })}>
                      Seed…
                    </button>
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

export function Cluster() {
  const { name = "" } = useParams();
  const loaded = useLoaded();
  const view = useView(name);
  const [request, setRequest] = useState<Request>();
  const may = useMay();
  if (!view)
    return loaded ? <p className="say">There is no cluster “{name}”.</p> : <Waiting what="Asking the service …" />;
  const running = view.operation;
  return (
    <>
      <section className="state" aria-label="State">
        <h1 className="say">
          <Sentence text={view.sentence} health={view.health} />
        </h1>
        <div className="btns">
          <May do="operate">
            {view.primary ? (
              <>
                <button className="btn go" onClick={() => setRequest({ kind: "switchover" })}>
                  Switch over…
                </button>
                <button className="btn risk" onClick={() => setRequest({ kind: "failover" })}>
                  Fail over…
                </button>
              </>
            ) : (
              <button className="btn go" onClick={() => setRequest({ kind: "adopt" })}>
                Take over what runs…
              </button>
            )}
          </May>
          <May do="admin">
            <Link className="btn" to={`/clusters/${name}/setup`}>
              Add a server…
            </Link>
          </May>
          <May do="operate">
            <button className="btn" onClick={() => setRequest({ kind: "compare" })}>
              Compare data
            </button>
          </May>
        </div>
        <Facts
          list={[
            ["term", view.term],
            ["engine", engineName(view.engine)],
            ["can lose", `${view.can_lose} more`],
            [
              "at risk",
              !view.at_risk.known
                ? "not known"
                : view.at_risk.everything
                  ? "every write"
                  : view.at_risk.bytes === 0
                    ? "nothing"
                    : `${size(view.at_risk.bytes)}, the last ${span(view.at_risk.seconds)}`,
            ],
            [
              "more",
              <nav key="more" className="inline-flex flex-wrap gap-x-3" aria-label="More of this cluster">
                <Link to={`/clusters/${name}/check`}>Checks</Link>
                <Link to={`/clusters/${name}/log`}>Log</Link>
                <Link to={`/clusters/${name}/tuning`}>Settings and conflicts</Link>
                {may("admin") && <Link to={`/clusters/${name}/policy`}>Policy and ranks</Link>}
                <Link to={`/alerts?cluster=${name}`}>Alerts</Link>
              </nav>,
            ],
            ...permitted(view),
            ...waited(view),
            ...(view.referees ?? []).map((r): [string, React.ReactNode] => [
              "referee",
              `${r.name}, ${r.answers ? `has noted term ${r.noted}` : "does not answer"}`,
            ]),
            ...(running
              ? [
                  [
                    "under way",
                    <Link key="o" to={`/operations/${running.id}`}>
                      operation {running.id}, {running.kind}
                    </Link>,
                  ] as [string, React.ReactNode],
                ]
              : []),
          ]}
        />
      </section>
      <section className="panel rbp" aria-label="Ribbon">
        <Legend synchronous={(view.synchronous?.list.names.length ?? 0) > 0} />
        <Ribbon view={view} />
      </section>
      <div className="cols">
        <section className="sec">
          <h2 className="h">Over time</h2>
          <HistoryChart view={view} />
        </section>
        <div>
          <FencingOpen view={view} />
          <Troubles view={view} act={setRequest} />
          <Topology view={view} act={setRequest} />
          <Recent cluster={name} />
        </div>
      </div>
      <Servers view={view} act={setRequest} />
      <Gates view={view} />
      {request && <PlanDialog view={view} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}
