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
  const [request, setRequest] = useState<Request>();
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/clusters/{cluster}/servers", {
          params: { path: { cluster } },
          body: { name: server, rank, hidden: false, site: site || undefined, primary: first || undefined },
        }),
      ),
  });
  if (!view) return <Waiting what="Asking the service …" />;
  const added = add.data && view.servers.find((s) => s.name === add.data.server);
  const there = added && added.last_contact_seconds >= 0;
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b>
            Add {first ? "the primary" : "a replica"} to {cluster}.
          </b>{" "}
          {first
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
          Name of the server
          <input className="field" autoFocus value={server} onChange={(e) => setServer(e.target.value)} />
        </label>
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
          <Command>{enrolment(add.data.code)}</Command>
          <p className="note">
            THIS-HOST is the address at which the other servers reach it. The database is found; of several, --data-dir
            names one.
          </p>
          <p role="status">
            {there ? (
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
