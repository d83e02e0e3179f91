import { useMutation, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Plan } from "../api/client";
import { useView } from "../live";
import { Facts, Problem, Waiting } from "../parts/bits";
import { Verdict } from "../parts/glyphs";
import { Checks, PlanDialog } from "../parts/plan-dialog";
import { Ribbon } from "../parts/ribbon";
import type { Fork } from "../parts/ribbon-fork";
import { TailTable } from "../parts/tail-table";
import { engineName, size, span } from "../words";

const pictures: Record<string, ReactNode> = {
  follow: <path className="n" d="M20 8L46 21H80" />,
  rewind: (
    <>
      <path className="gone" d="M20 10L46 23H80" />
      <path className="k" d="M80 29H42L20 18M27 26L20 18L30.5 18.2" />
    </>
  ),
  rebuild: (
    <>
      <rect className="o" x=".5" y="19.5" width="83" height="9" />
      <rect className="sd" x=".5" y="19.5" width="34" height="9" />
    </>
  ),
};

function Ways({ plan, server, choose }: { plan: Plan; server: string; choose: (way: string) => void }) {
  return (
    <div className="ways" role="radiogroup" aria-label="Way back">
      {(plan.ways ?? []).map((w) => (
        <div key={w.name} className={w.chosen ? "on" : ""}>
          <input className="radio" type="radio" name="way" id={`way-${w.name}`} checked={w.chosen} disabled={!w.possible} onChange={() => choose(w.name)} />
          <svg className="wd" width="84" height="34" viewBox="0 0 84 34" aria-hidden="true">
            <path className="t" d="M0 8H84" />
            {pictures[w.name]}
          </svg>
          <label htmlFor={`way-${w.name}`}>
            <span className="nm">{w.name[0]?.toUpperCase() + w.name.slice(1)}</span> &ensp;
            <Verdict result={w.possible ? "pass" : "fail"} word={w.possible ? "possible" : "not possible"} />
            <div className="note">{w.why}</div>
          </label>
          <span className="est">{w.chosen && plan.steps?.length ? `about ${span(plan.steps.reduce((n, s) => n + s.expected_seconds, 0))}` : ""}</span>
        </div>
      ))}
      {(plan.ways ?? []).length === 0 && <p className="note">No way back of {server} can be told: see the checks.</p>}
    </div>
  );
}

// Rejoin shows what only a server has, where its history left the cluster's,
// and the ways back.
export function Rejoin() {
  const { name = "", server = "" } = useParams();
  const view = useView(name);
  const navigate = useNavigate();
  const [way, setWay] = useState<string>();
  const [typed, setTyped] = useState("");
  const [salvage, setSalvage] = useState(false);
  const [compare, setCompare] = useState(false);
  const ask = { kind: "rejoin", server, way, compare: compare || undefined };
  const q = useQuery({
    queryKey: ["plan", name, ask],
    queryFn: () => take(api.POST("/api/v1/clusters/{cluster}/plan", { params: { path: { cluster: name } }, body: ask })),
    retry: false,
    refetchOnWindowFocus: false,
    placeholderData: (old) => old,
  });
  const begin = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/clusters/{cluster}/operations", { params: { path: { cluster: name } }, body: { ...ask, confirm_name: typed || undefined } })),
    onSuccess: (op) => navigate(`/operations/${op.id}`),
  });
  if (!view) return <Waiting what="Asking the service …" />;
  const me = view.servers.find((s) => s.name === server);
  const p = q.data;
  const x = p?.examination;
  const tail = x?.tail;
  const failed = (p?.checks ?? []).find((c) => c.result === "fail");
  const chosen = (p?.ways ?? []).find((w) => w.chosen)?.name;
  const fork: Fork | undefined =
    x && (x.tail_bytes > 0 || tail)
      ? { at: x.fork, tail_bytes: x.tail_bytes, tail_transactions: tail ? tail.transactions.length : -1, since_bytes: me?.fork?.since_bytes ?? -1 }
      : undefined;
  const named = !p?.confirm_name || typed === p.confirm_name;
  return (
    <>
      <section className="state">
        <h1 className="say">
          <b className={me?.health === "adrift" || tail ? "c-adrift" : ""}>
            {server} is {me?.health ?? "not a server of this cluster"}.
          </b>{" "}
          {q.isPending
            ? "Its data is being held against the history of the cluster …"
            : tail
              ? `It holds ${tail.transactions.length === 1 ? "one transaction" : `${tail.transactions.length} transactions`} that ${name} lacks. ${view.primary} takes writes, so nothing waits; choose how ${server} comes back.`
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
      <Problem error={q.error ?? begin.error} />
      <section className="panel rbp" aria-label="Ribbon">
        <Ribbon view={view} forks={fork ? { [server]: fork } : {}} />
      </section>
      {q.isPending && <Waiting what={`Reading what stands on ${server} …`} />}
      {p && (
        <div className="rj">
          <div>
            {tail ? (
              <TailTable transactions={tail.transactions} server={server} saved={tail.saved} />
            ) : (
              <p className="note">{x ? `${server} holds nothing that the cluster lacks.` : `${server} could not be examined: see the checks.`}</p>
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
                      {tail.saved ? `saved, and kept on ${server}’s host.` : `saved before anything is taken out, read back, and kept on ${server}’s host.`}
                    </div>
                  </div>
                  {tail.saved ? (
                    <a className="btn sm" href={`/api/v1/clusters/${name}/servers/${server}/salvage/${tail.saved.split("/").at(-1)}`} download>
                      Download it
                    </a>
                  ) : (
                    <button className="btn sm" onClick={() => setSalvage(true)}>
                      Save it now…
                    </button>
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
                  <input type="checkbox" checked={compare} onChange={(e) => setCompare(e.target.checked)} /> Compare all tables at the end
                </span>
              </label>
              <form
                className="conf"
                onSubmit={(e) => {
                  e.preventDefault();
                  begin.mutate();
                }}
              >
                {p.confirm_name && !failed ? (
                  <>
                    <label htmlFor="confirm">
                      Type <b>{p.confirm_name}</b> to go on
                    </label>
                    <input className="field" id="confirm" value={typed} onChange={(e) => setTyped(e.target.value)} autoComplete="off" />
                  </>
                ) : (
                  <>
                    <span className={failed ? "c-halt" : ""}>{failed ? failed.evidence : "Nothing is thrown away."}</span>
                    <span />
                  </>
                )}
                <button className={p.destroys ? "btn stop" : "btn go"} disabled={!!failed || !named || begin.isPending || q.isFetching}>
                  {chosen ? chosen[0]?.toUpperCase() + chosen.slice(1) : "Rejoin"} and rejoin {server}
                </button>
              </form>
            </div>
            {p.destroys && <p className="note c-halt">This throws away {p.destroys}.</p>}
          </section>
        </div>
      )}
      {salvage && <PlanDialog view={view} request={{ kind: "salvage", server }} close={() => setSalvage(false)} />}
    </>
  );
}
