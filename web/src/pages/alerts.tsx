import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, take } from "../api/client";
import type { components } from "../api/schema";
import { Problem, Waiting } from "../parts/bits";
import { Glyph } from "../parts/glyphs";
import { span, when } from "../words";
import { May } from "../may";

type Alert = components["schemas"]["AlertAlert"];

function Acknowledge({ alert }: { alert: Alert }) {
  const client = useQueryClient();
  const [note, setNote] = useState("");
  const [open, setOpen] = useState(false);
  const send = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/alerts/{id}/acknowledge", { params: { path: { id: String(alert.id) } }, body: { note } }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["alerts"] }),
  });
  if (!open)
    return (
      <May do="operate">
        <button className="btn sm" onClick={() => setOpen(true)}>
          Acknowledge…
        </button>
      </May>
    );
  return (
    <form
      className="btns"
      onSubmit={(e) => {
        e.preventDefault();
        send.mutate();
      }}
    >
      <input
        className="field"
        autoFocus
        placeholder="What you are doing about it"
        aria-label="Note"
        value={note}
        onChange={(e) => setNote(e.target.value)}
      />
      <button className="btn sm go" disabled={send.isPending}>
        Acknowledge
      </button>
      <Problem error={send.error} />
    </form>
  );
}

// Alerts lists what is or was wrong for long enough to be told.
export function Alerts() {
  const [query, setQuery] = useSearchParams();
  const cluster = query.get("cluster") ?? "";
  const list = useQuery({
    queryKey: ["alerts", cluster],
    queryFn: () =>
      take(api.GET("/api/v1/alerts", { params: { query: { cluster: cluster || undefined, limit: "200" } } })),
  });
  if (list.isPending) return <Waiting what="Reading the alerts …" />;
  const alerts = list.data?.alerts ?? [];
  const open = alerts.filter((a) => !a.cleared_at).length;
  return (
    <>
      <section className="fl-head">
        <h1 className="say">
          <b className={open ? "c-halt" : ""}>
            {open === 0 ? "No alert is open." : open === 1 ? "1 alert is open." : `${open} alerts are open.`}
          </b>
          {cluster && ` Only ${cluster} is shown.`}
        </h1>
        {cluster && (
          <button className="btn sm" onClick={() => setQuery({})}>
            Show all clusters
          </button>
        )}
      </section>
      <Problem error={list.error} />
      <div className="overflow-x-auto">
        <table className="tb list">
          <thead>
            <tr>
              <th>level</th>
              <th>cluster</th>
              <th>rule</th>
              <th>what, and what to do</th>
              <th>raised</th>
              <th>cleared</th>
              <th>acknowledged by</th>
            </tr>
          </thead>
          <tbody>
            {alerts.map((a) => (
              <tr key={a.id} className={a.cleared_at ? "c-2" : ""}>
                <td className="nw">
                  <span className={`v ${a.cleared_at ? "" : a.level === "critical" ? "fail" : "warn"}`}>
                    <Glyph name={a.level === "critical" ? "fail" : "warn"} />
                    {a.level}
                  </span>
                </td>
                <th scope="row">
                  {a.cluster ? <Link to={`/clusters/${a.cluster}`}>{a.cluster}</Link> : "the service"}
                </th>
                <td className="nw">{a.rule}</td>
                <td>
                  {a.text}
                  {a.mend && !a.cleared_at && <div className="note">{a.mend}</div>}
                </td>
                <td className="nw" data-l="raised">
                  {when(a.raised_at)}
                </td>
                <td className="nw">
                  {a.cleared_at ? (
                    `after ${span((Date.parse(a.cleared_at) - Date.parse(a.raised_at)) / 1000)}`
                  ) : (
                    <b>open</b>
                  )}
                </td>
                <td>
                  {a.acknowledged_by ? (
                    <>
                      {a.acknowledged_by}
                      {a.note && <div className="note">{a.note}</div>}
                    </>
                  ) : (
                    !a.cleared_at && <Acknowledge alert={a} />
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {alerts.length === 0 && <p className="note">Nothing was ever wrong for long enough to be told.</p>}
      <p className="note">
        Where alerts are sent, and which are muted: <Link to="/settings">Settings</Link>.
      </p>
    </>
  );
}
