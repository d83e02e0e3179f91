import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, take, type Request } from "../api/client";
import type { components } from "../api/schema";
import { useView } from "../live";
import { Problem, Waiting } from "../parts/bits";
import { PlanDialog } from "../parts/plan-dialog";
import { RowValues } from "../parts/row-values";
import { changed, engineName, size, when } from "../words";
import { May } from "../may";

type Transaction = components["schemas"]["TailTransaction"];

export function LogFiles({ cluster, server, needs }: { cluster: string; server: string; needs: boolean }) {
  const q = useQuery({
    queryKey: ["logs", cluster, server],
    queryFn: () =>
      take(api.GET("/api/v1/clusters/{cluster}/logs", { params: { path: { cluster }, query: { server } } })),
    refetchInterval: 10000,
  });
  const files = (q.data?.files ?? []).filter((f) => !f.ahead);
  const ahead = (q.data?.files ?? []).length - files.length;
  return (
    <>
      <Problem error={q.error} />
      {q.isPending && <Waiting what="Asking for the log files …" />}
      {q.data && (
        <div className="max-h-90 overflow-auto">
          <table className="tb">
            <thead>
              <tr>
                <th>file</th>
                <th className="num">size</th>
                <th>last written</th>
                <th>from</th>
                {needs && <th>needed by</th>}
              </tr>
            </thead>
            <tbody>
              {[...files].reverse().map((f) => (
                <tr key={f.name}>
                  <td className="mono nw">{f.name}</td>
                  <td className="num">{size(f.bytes)}</td>
                  <td className="nw">{when(f.changed_at)}</td>
                  <td className="mono nw">{f.from || "–"}</td>
                  {needs && <td>{(f.needed_by ?? []).join(", ") || <span className="c-3">nobody</span>}</td>}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {ahead > 0 && <p className="note">and {ahead} more that are made ready for writes to come</p>}
    </>
  );
}

function One({ t }: { t: Transaction }) {
  const name = t.gtid || String(t.id ?? "");
  return (
    <>
      <tr>
        <td className="mono nw">{name}</td>
        <td className="nw">{t.at && !t.at.startsWith("0001") ? when(t.at) : "–"}</td>
        <td className={t.outcome === "aborted" ? "c-halt" : ""}>{t.outcome}</td>
        <td className="num">{size(t.bytes ?? 0)}</td>
        <td>
          {t.schema && <div>changed definitions</div>}
          {(t.changes ?? []).map((c) => (
            <div key={c.table}>
              {c.table}: {changed(c)}
            </div>
          ))}
          {(t.statements ?? []).map((s, i) => (
            <div key={i} className="mono">
              {s}
            </div>
          ))}
          {t.unsafe && <div className="c-behind">unsafe to replay: {t.unsafe}</div>}
          {(t.rows ?? []).map((r, i) => (
            <div key={i} className="note">
              {r.kind} {r.table}: <RowValues row={r} />
            </div>
          ))}
          <div className="note">
            {t.gtid ? "" : t.file}{" "}
            {t.gtid
              ? `${t.first} to ${t.last}`
              : `${t.first} to ${t.last}; ${Object.entries(t.records ?? {})
                  .map(([k, n]) => `${n} × ${k}`)
                  .join(", ")}`}
            {t.origin ? `; written by server ${t.origin}` : ""}
          </div>
        </td>
      </tr>
    </>
  );
}

function Read({ cluster }: { cluster: string }) {
  const view = useView(cluster);
  const [query, setQuery] = useSearchParams();
  const get = (k: string) => query.get(k) ?? "";
  const [form, setForm] = useState({ server: get("server"), from: get("from"), to: get("to"), table: get("table") });
  const [live, setLive] = useState(true);
  const q = useQuery({
    queryKey: ["log", cluster, get("server"), get("from"), get("to"), get("table"), get("shown")],
    queryFn: () =>
      take(
        api.GET("/api/v1/clusters/{cluster}/log", {
          params: {
            path: { cluster },
            query: {
              server: get("server"),
              from: get("from"),
              to: get("to"),
              table: get("table"),
              shown: get("shown"),
              limit: "30",
            },
          },
        }),
      ),
    refetchInterval: live && get("from") === "" ? 3000 : false,
    retry: false,
  });
  const set = (next: typeof form, shown = "") => {
    setForm(next);
    setQuery(Object.fromEntries(Object.entries({ ...next, shown }).filter(([, v]) => v !== "")));
  };
  const list = q.data?.transactions ?? [];
  const newest = get("from") === "";
  return (
    <section className="sec">
      <h2 className="h">
        What is in the log{" "}
        <span className="note">{newest ? "the newest transactions" : `after ${get("shown") || get("from")}`}</span>
      </h2>
      <form
        className="filter"
        onSubmit={(e) => {
          e.preventDefault();
          set(form);
        }}
      >
        <label>
          <span className="c-3">server</span>{" "}
          <select className="field" value={form.server} onChange={(e) => set({ ...form, server: e.target.value })}>
            <option value="">primary</option>
            {(view?.servers ?? []).map((s) => (
              <option key={s.name}>{s.name}</option>
            ))}
          </select>
        </label>
        {(["from", "to", "table"] as const).map((k) => (
          <label key={k}>
            <span className="c-3">{k === "table" ? "table" : `${k} position`}</span>{" "}
            <input className="field" value={form[k]} onChange={(e) => setForm({ ...form, [k]: e.target.value })} />
          </label>
        ))}
        <button className="btn sm">Read</button>
        <label>
          <input type="checkbox" checked={live} onChange={(e) => setLive(e.target.checked)} disabled={!newest} />{" "}
          follow
        </label>
      </form>
      <Problem error={q.error} />
      {q.isPending && <Waiting what="Reading the log …" />}
      <div className="overflow-x-auto">
        <table className="tb list tl">
          <thead>
            <tr>
              <th>transaction</th>
              <th>time</th>
              <th>outcome</th>
              <th className="num">size</th>
              <th>what it did</th>
            </tr>
          </thead>
          <tbody>
            {(newest ? [...list].reverse() : list).map((t, i) => (
              <One key={i} t={t} />
            ))}
          </tbody>
        </table>
      </div>
      {q.data && list.length === 0 && <p className="note">No transaction fits.</p>}
      {q.data && !newest && !q.data.end && (
        <button className="btn sm" onClick={() => set({ ...form, from: q.data.next ?? "" }, q.data.shown)}>
          Go on from {q.data.shown ?? q.data.next}
        </button>
      )}
    </section>
  );
}

export function Log() {
  const { name = "" } = useParams();
  const view = useView(name);
  const [request, setRequest] = useState<Request>();
  if (!view) return <Waiting what="Asking the service …" />;
  const primary = view.servers.find((s) => s.name === view.primary);
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b>The log of {name}.</b>{" "}
          {primary?.log_full
            ? `${primary.log_full.text}.`
            : `Nothing makes the log of ${view.primary || "its primary"} grow without end.`}
        </h1>
        <div className="btns">
          <May do="operate">
            <button className="btn risk" onClick={() => setRequest({ kind: "trim" })} disabled={!view.primary}>
              Trim…
            </button>
          </May>
          <Link className="btn" to={`/clusters/${name}`}>
            Back to {name}
          </Link>
        </div>
        <p className="note">
          {engineName(view.engine)}. A file goes only when no server of the cluster needs it, fenced and absent ones
          included, until they are removed.
        </p>
      </section>
      {primary && (
        <section className="sec">
          <h2 className="h">
            Files on {primary.name} <span className="note">newest first</span>
          </h2>
          <LogFiles cluster={name} server={primary.name} needs />
        </section>
      )}
      <Read cluster={name} />
      {request && <PlanDialog view={view} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}
