import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Request } from "../api/client";
import { useView } from "../live";
import { Command, Problem, Waiting } from "../parts/bits";
import { HealthWord } from "../parts/glyphs";
import { enrolment } from "../parts/enrolment";
import { PlanDialog } from "../parts/plan-dialog";

function AddCluster() {
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [engine, setEngine] = useState("postgresql");
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/clusters", { body: { name, engine } })),
    onSuccess: () => navigate(`/clusters/${name}/setup`),
  });
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b>Add a cluster.</b> One primary and its replicas. Nothing is changed on any server yet.
        </h1>
      </section>
      <form
        className="grid max-w-[520px] gap-2 [&_label]:grid [&_label]:gap-0.5"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <label>
          Name
          <input className="field" autoFocus value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <label>
          Engine
          <select className="field" value={engine} onChange={(e) => setEngine(e.target.value)}>
            <option value="postgresql">PostgreSQL 15</option>
            <option value="mariadb">MariaDB 10.11</option>
          </select>
        </label>
        <div className="btns">
          <button className="btn go" disabled={!name || add.isPending}>
            Add {name || "it"}
          </button>
        </div>
        <Problem error={add.error} />
      </form>
    </>
  );
}

function AddServer({ cluster }: { cluster: string }) {
  const view = useView(cluster);
  const first = !view?.servers.some((s) => s.role === "primary") && !view?.primary;
  const [server, setServer] = useState("");
  const [rank, setRank] = useState(1);
  const [site, setSite] = useState("");
  const [referee, setReferee] = useState(false);
  const [request, setRequest] = useState<Request>();
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/clusters/{cluster}/servers", {
          params: { path: { cluster } },
          body: referee
            ? { name: server, rank: 0, hidden: false, referee }
            : { name: server, rank, hidden: false, site: site || undefined, primary: first || undefined },
        }),
      ),
  });
  if (!view) return <Waiting what="Asking the service …" />;
  const added = add.data && view.servers.find((s) => s.name === add.data.server);
  const answers = view.referees?.some((r) => r.name === add.data?.server && r.answers);
  const there = added && added.last_contact_seconds >= 0;
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b>
            Add {referee ? "a referee" : first ? "the primary" : "a replica"} to {cluster}.
          </b>{" "}
          {referee
            ? "An agent without a database, on any small host: it counts towards the majority that a failover needs."
            : first
              ? "The server that takes writes now; it goes on running."
              : "Its data directory is empty, or may be replaced."}
        </h1>
      </section>
      <form
        className="grid max-w-[520px] gap-2 [&_label]:grid [&_label]:gap-0.5"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <label>
          Name of the {referee ? "referee" : "server"}
          <input className="field" autoFocus value={server} onChange={(e) => setServer(e.target.value)} />
        </label>
        {!first && (
          <div>
            <input
              id="referee"
              type="checkbox"
              checked={referee}
              disabled={add.isSuccess}
              onChange={(e) => setReferee(e.target.checked)}
            />{" "}
            <label htmlFor="referee" className="inline!">
              a referee: it has no database
            </label>
          </div>
        )}
        {!referee && (
          <>
            <label>
              Rank
              <select className="field" value={rank} onChange={(e) => setRank(Number(e.target.value))}>
                {[1, 2, 3, 4, 5, 0].map((n) => (
                  <option key={n} value={n}>
                    {n === 0 ? "never: it does not become primary" : n}
                  </option>
                ))}
              </select>
            </label>
            <label>
              Site
              <input className="field" value={site} onChange={(e) => setSite(e.target.value)} />
            </label>
          </>
        )}
        <div className="btns">
          <button className="btn go" disabled={!server || add.isPending || add.isSuccess}>
            Add {server || "it"}
          </button>
          <Link className="btn" to={`/clusters/${cluster}`}>
            Open {cluster}
          </Link>
        </div>
        <Problem error={add.error} />
      </form>
      {add.data && (
        <section className="sec">
          <h2 className="h">On {add.data.server}’s host, as root</h2>
          <Command>{enrolment(add.data.code, referee)}</Command>
          <p className="note">
            {referee
              ? "THIS-HOST is the address at which the service reaches it. Then start it: crosstwin referee."
              : "THIS-HOST is where the other servers reach it. Of several databases, --data-dir names one."}
          </p>
          <p role="status">
            {answers ? (
              `${add.data.server} answers.`
            ) : there ? (
              <>
                {add.data.server} has appeared: <HealthWord health={added.health} why={added.why} />
              </>
            ) : (
              `Waiting for ${add.data.server} to appear. The code is good for an hour, once.`
            )}
          </p>
          {there && added.reports_as === "replica" && (
            <div className="btns">
              <button className="btn go" onClick={() => setRequest({ kind: "adopt" })}>
                Take over what runs in {cluster}…
              </button>
            </div>
          )}
          {there && !first && view.primary && added.reports_as !== "replica" && (
            <div className="btns">
              <button className="btn go" onClick={() => setRequest({ kind: "seed", server: add.data.server })}>
                Seed {add.data.server}…
              </button>
            </div>
          )}
        </section>
      )}
      {request && <PlanDialog view={view} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}

export function Setup() {
  const { name } = useParams();
  return name ? <AddServer cluster={name} /> : <AddCluster />;
}
