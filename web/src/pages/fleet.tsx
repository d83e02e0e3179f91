import { useQuery } from "@tanstack/react-query";
import { memo, useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { api, take, type Health, type View } from "../api/client";
import { useLoaded, useViews } from "../live";
import { Waiting } from "../parts/bits";
import { Glyph, healthClass, Sentence } from "../parts/glyphs";
import { PlanDialog } from "../parts/plan-dialog";
import { Ribbon } from "../parts/ribbon";
import { behind, engineName, said } from "../words";
import { May } from "../may";

const calm = (h: Health) => h === "takes writes" || h === "in step";

// opening says in one sentence how the fleet is, worst first.
function opening(views: readonly View[]): string {
  const n = views.length;
  const groups = new Map<Health, { k: number; severity: number }>();
  for (const v of views)
    if (!calm(v.health)) groups.set(v.health, { k: (groups.get(v.health)?.k ?? 0) + 1, severity: v.severity });
  const bad = [...groups].sort((a, b) => b[1].severity - a[1].severity).map(([h, { k }]) => `${k} ${said(h, k)}`);
  const fine = views.filter((v) => calm(v.health)).length;
  const good = `${fine} of ${n} ${n === 1 ? "cluster" : "clusters"} ${fine === 1 ? "is" : "are"} in step`;
  return `${[good, ...bad].join(", ")}.`;
}

type Trace = (number | null)[];

// Lines are the replicas' time behind of the last ten minutes, each on a scale
// of its own from zero to its peak, at least a second.
function Lines({ v, traces }: { v: View; traces: Record<string, Trace> }) {
  return (
    <>
      {v.servers
        .filter((s) => s.name !== v.primary)
        .slice(0, 2)
        .map((s) => {
          const trace = traces[s.name] ?? [];
          const most = Math.max(1, ...trace.map((x) => x ?? 0));
          let pen = "M";
          const path = trace
            .map((x, i) => {
              if (x === null) {
                pen = "M";
                return "";
              }
              const part = `${pen}${(66 * (i + 60 - trace.length)) / 59} ${(22 - (20 * x) / most).toFixed(1)}`;
              pen = "L";
              return part;
            })
            .join("");
          return (
            <div className="rp" key={s.name}>
              <span>{s.name}</span>
              <svg className="sp" width="66" height="24" viewBox="0 0 66 24" aria-hidden="true">
                <line className="b" x1="0" x2="66" y1="22.5" y2="22.5" />
                {path && <path className="l" d={path} />}
              </svg>
              {calm(s.health) ? <span>{behind(s.lag)}</span> : <b className={healthClass(s.health)}>{s.health}</b>}
            </div>
          );
        })}
      {v.servers.length < 3 && <span />}
    </>
  );
}

// Line is one cluster. It is drawn anew only when something that it shows has
// changed: with hundreds of them each second counts.
const Line = memo(
  function Line({ v, traces, alerts }: { v: View; traces: Record<string, Trace>; alerts: number }) {
    return (
      <li className="fl fl-r">
        <div className="fl-n">
          <span className={healthClass(v.health)}>
            <Glyph name={v.health} />
          </span>
          <Link to={`/clusters/${v.cluster}`}>{v.cluster}</Link>
          <span className="note">{engineName(v.engine)}</span>
        </div>
        <p>
          <Sentence text={v.sentence} health={v.health} />
        </p>
        <span>{v.primary || "none"}</span>
        <Lines v={v} traces={traces} />
        <div>
          {alerts > 0 ? (
            <Link className="c-halt" to={`/alerts?cluster=${v.cluster}`}>
              <b>{alerts === 1 ? "1 alert" : `${alerts} alerts`}</b>
            </Link>
          ) : v.problems.length > 0 ? (
            <span className="c-2">{v.problems.length === 1 ? "1 problem" : `${v.problems.length} problems`}</span>
          ) : (
            <span className="c-3">none</span>
          )}
        </div>
      </li>
    );
  },
  (a, b) => a.traces === b.traces && a.alerts === b.alerts && (a.v === b.v || face(a.v) === face(b.v)),
);

// face is all that a line shows of a view; it is worked out once for each.
const faces = new WeakMap<View, string>();
const face = (v: View) => {
  let text = faces.get(v);
  if (text === undefined) {
    const servers = v.servers.map((s) => `${s.name} ${s.health} ${behind(s.lag)}`);
    text = [v.cluster, v.health, v.sentence, v.primary, v.problems.length, ...servers].join(" ");
    faces.set(v, text);
  }
  return text;
};

const noTraces: Record<string, Trace> = {};

function Bulletin({ v }: { v: View }) {
  const [open, setOpen] = useState(false);
  return (
    <section className="bulletin" role="alert" aria-label={`${v.cluster} takes no writes`}>
      <div>
        <p className="say">
          <Sentence text={v.sentence} health={v.health} />
        </p>
        <div className="btns">
          {v.primary && (
            <May do="operate">
              <button className="btn stop" onClick={() => setOpen(true)}>
                Fail over…
              </button>
            </May>
          )}
          <Link className="btn" to={`/clusters/${v.cluster}`}>
            Open {v.cluster}
          </Link>
          <span className="note">
            {engineName(v.engine)}, term {v.term}.
          </span>
        </div>
      </div>
      <Ribbon view={v} />
      {open && <PlanDialog view={v} request={{ kind: "failover" }} close={() => setOpen(false)} />}
    </section>
  );
}

export function Fleet() {
  // Deferred: drawing hundreds of lines gives way to frames and keys.
  const views = useDeferredValue(useViews());
  const loaded = useLoaded();
  const [find, setFind] = useState("");
  const [pick, setPick] = useState<Health>();
  const lines = useQuery({
    queryKey: ["lag-lines"],
    queryFn: () => take(api.GET("/api/v1/lag-lines")),
    refetchInterval: 10000,
    structuralSharing: false, // nothing of it stays the same
  });
  const traces = useDeferredValue(lines.data);
  const alerts = useQuery({
    queryKey: ["alerts", "open"],
    queryFn: () => take(api.GET("/api/v1/alerts", { params: { query: { open: "true", limit: "1000" } } })),
  });
  const counts = new Map<string, number>();
  for (const a of alerts.data?.alerts ?? []) counts.set(a.cluster, (counts.get(a.cluster) ?? 0) + 1);
  if (!loaded) return <Waiting what="Asking the service for its clusters …" />;
  if (views.length === 0)
    return (
      <section className="state">
        <h1 className="say">
          <b>No cluster yet.</b> Begin with the server that runs as primary now.
        </h1>
        <div className="max-w-[720px] rounded-(--radius) border border-dashed border-edge p-6">
          <p>
            A cluster is one primary and its replicas. Name it, then enroll the host of the server that takes writes;
            it goes on running meanwhile.
          </p>
          <p className="btns">
            <May do="admin">
              <Link className="btn go" to="/setup">
                Add a cluster…
              </Link>
            </May>
          </p>
        </div>
      </section>
    );
  const sorted = [...views].sort((a, b) => b.severity - a.severity || (a.cluster < b.cluster ? -1 : 1));
  const text = find.toLowerCase();
  const shown = sorted.filter(
    (v) =>
      (!pick || v.health === pick) &&
      (v.cluster.includes(text) ||
        v.servers.some((s) => s.name.includes(text) || (s.site ?? "").toLowerCase().includes(text))),
  );
  const silent = sorted.filter((v) => v.health === "takes no writes" && v.primary);
  const servers = views.reduce((n, v) => n + v.servers.length, 0);
  return (
    <>
      <section className="fl-head">
        <h1 className="say">{opening(views)}</h1>
        <p className="note nw">
          {servers} servers{" "}
          <May do="admin">
            <Link className="btn sm" to="/setup">
              Add a cluster…
            </Link>
          </May>
        </p>
      </section>
      {silent[0] && <Bulletin v={silent[0]} />}
      <section className="fleet">
        <div className="filter">
          <label className="find">
            <span className="vh">Find a cluster, server or site</span>
            <input
              className="field pl-2.5"
              placeholder="Find a cluster, server or site"
              value={find}
              onChange={(e) => setFind(e.target.value)}
            />
          </label>
          <button className="pick" aria-pressed={!pick} onClick={() => setPick(undefined)}>
            all <b>{views.length}</b>
          </button>
          {[...new Set(sorted.map((v) => v.health))].map((h) => (
            <button
              key={h}
              className="pick"
              aria-pressed={pick === h}
              onClick={() => setPick(pick === h ? undefined : h)}
            >
              <span className={healthClass(h)}>
                <Glyph name={h} />
              </span>
              {h} <b>{views.filter((v) => v.health === h).length}</b>
            </button>
          ))}
        </div>
        <div className="fl fl-th" aria-hidden="true">
          <span>cluster</span>
          <span>state</span>
          <span>primary</span>
          <span>replicas, time behind</span>
          <span />
          <span>trouble</span>
        </div>
        <ul>
          {shown.map((v) => (
            <Line key={v.cluster} v={v} traces={traces?.[v.cluster] ?? noTraces} alerts={counts.get(v.cluster) ?? 0} />
          ))}
        </ul>
        {shown.length === 0 && <p className="note">No cluster fits.</p>}
      </section>
    </>
  );
}
