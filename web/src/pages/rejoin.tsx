import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Request } from "../api/client";
import { useView } from "../live";
import { Facts, NotBegun, Problem, Waiting } from "../parts/bits";
import { Checks, PlanDialog } from "../parts/plan-dialog";
import { Ribbon } from "../parts/ribbon";
import type { Fork } from "../parts/ribbon-fork";
import { TailTable } from "../parts/tail-table";
import { usePlan } from "../parts/use-plan";
import { Ways } from "../parts/ways";
import { engineName, size } from "../words";
import { May } from "../may";

// Rejoin shows what only a server has, where its history left the cluster's,
// and the ways back.
export function Rejoin() {
  const { name = "", server = "" } = useParams();
  const view = useView(name);
  const [way, setWay] = useState<string>();
  const [typed, setTyped] = useState("");
  const [salvage, setSalvage] = useState(false);
  const [compare, setCompare] = useState(false);
  const ask: Request = { kind: "rejoin", server, way, compare: compare || undefined };
  const { query: q, plan: p, begin, changes } = usePlan(name, ask);
  if (!view) return <Waiting what="Asking the service …" />;
  const me = view.servers.find((s) => s.name === server);
  const x = p?.examination;
  const tail = x?.tail;
  const failed = (p?.checks ?? []).find((c) => c.result === "fail");
  const chosen = (p?.ways ?? []).find((w) => w.chosen)?.name;
  const fork: Fork | undefined =
    x && (x.tail_bytes > 0 || tail)
      ? {
          at: x.fork,
          tail_bytes: x.tail_bytes,
          tail_transactions: tail ? tail.transactions.length : -1,
          since_bytes: me?.fork?.since_bytes ?? -1,
        }
      : undefined;
  const named = !p?.confirm_name || typed === p.confirm_name;
  const n = tail?.transactions.length ?? 0;
  const held = n === 1 ? "one transaction" : `${n} transactions`;
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b className={me?.health === "adrift" || tail ? "c-adrift" : ""}>
            {server} is {me?.health ?? "not a server of this cluster"}.
          </b>{" "}
          {q.isPending
            ? "Comparing its log with the primary’s …"
            : tail
              ? `It holds ${held} that ${name} lacks. ` +
                `${view.primary} takes writes, so nothing waits; choose how ${server} comes back.`
              : p?.summary}
        </h1>
        <div className="btns">
          <Link className="btn" to={`/clusters/${name}`}>
            Back to {name}
          </Link>
        </div>
        <Facts
          list={[
            ["term", view.term],
            ["primary", view.primary],
            ["fork", x?.fork ? <span className="mono">{x.fork}</span> : "none found"],
            ["end of its log", x?.end ? <span className="mono">{x.end}</span> : "–"],
            ["kinship", x?.kinship || "–"],
            ["engine", engineName(view.engine)],
          ]}
        />
      </section>
      <Problem error={q.error} />
      <NotBegun changes={changes} error={begin.error} />
      <section className="panel rbp" aria-label="Ribbon">
        <Ribbon view={view} forks={fork ? { [server]: fork } : {}} />
      </section>
      {q.isPending && <Waiting what={`Reading the data on ${server} …`} />}
      {p && (
        <div className="rj">
          <div>
            {tail ? (
              <TailTable transactions={tail.transactions} server={server} saved={tail.saved} />
            ) : (
              <p className="note">
                {x
                  ? `${server} holds nothing that the cluster lacks.`
                  : `${server} could not be examined: see the checks.`}
              </p>
            )}
            <Checks checks={p.checks ?? []} />
          </div>
          <section className="sec">
            <h2 className="h">Ways back</h2>
            <div className="panel">
              <Ways plan={p} server={server} choose={setWay} />
              {tail && (
                <div className="salv">
                  <div>
                    <b>Salvage</b>
                    <div className="note c-2">
                      {tail.transactions.length} transactions, {size(x?.tail_bytes ?? 0)} of log:{" "}
                      {tail.saved
                        ? `saved, and kept on ${server}’s host.`
                        : `saved before anything is removed, read back, and kept on ${server}’s host.`}
                    </div>
                  </div>
                  {tail.saved ? (
                    <May do="read-data">
                      <a
                        className="btn sm"
                        href={`/api/v1/clusters/${name}/servers/${server}/salvage/${tail.saved.split("/").at(-1)}`}
                        download
                      >
                        Download it
                      </a>
                    </May>
                  ) : (
                    <May do="operate">
                      <button className="btn sm" onClick={() => setSalvage(true)}>
                        Save it now…
                      </button>
                    </May>
                  )}
                </div>
              )}
              {(p.effects ?? []).length > 0 && (
                <ul className="salv c-2">
                  {(p.effects ?? []).map((e) => (
                    <li key={e}>{e}</li>
                  ))}
                </ul>
              )}
              <label className="salv">
                <span>
                  <input type="checkbox" checked={compare} onChange={(e) => setCompare(e.target.checked)} /> Compare
                  all tables at the end
                </span>
              </label>
              <form
                className="conf"
                onSubmit={(e) => {
                  e.preventDefault();
                  begin.mutate(typed);
                }}
              >
                {p.confirm_name && !failed ? (
                  <>
                    <label htmlFor="confirm">
                      Type <b>{p.confirm_name}</b> to go on
                    </label>
                    <input
                      className="field"
                      id="confirm"
                      value={typed}
                      onChange={(e) => setTyped(e.target.value)}
                      autoComplete="off"
                    />
                  </>
                ) : (
                  <>
                    <span className={failed ? "c-halt" : ""}>
                      {failed ? failed.evidence : "Nothing is discarded."}
                    </span>
                    <span />
                  </>
                )}
                <button
                  className={p.destroys ? "btn stop" : "btn go"}
                  disabled={!!failed || !named || begin.isPending || q.isFetching}
                >
                  {chosen ? chosen[0]?.toUpperCase() + chosen.slice(1) : "Rejoin"} and rejoin {server}
                </button>
              </form>
            </div>
            {p.destroys && <p className="note c-halt">This discards {p.destroys}.</p>}
          </section>
        </div>
      )}
      {salvage && <PlanDialog view={view} request={{ kind: "salvage", server }} close={() => setSalvage(false)} />}
    </>
  );
}
