import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Fragment, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, take, type Check, type Plan, type Request, type View } from "../api/client";
import { clock, span } from "../words";
import { Problem, Waiting } from "./bits";
import { Verdict } from "./glyphs";
import { RowValues } from "./row-values";

const titles: Record<string, string> = {
  seed: "Seed",
  switchover: "Switch over",
  failover: "Fail over",
  rejoin: "Rejoin",
  compare: "Compare the data of",
  salvage: "Save the tail of",
  trim: "Trim the log of",
  set: "Change a setting of",
  follow: "Point elsewhere",
};

const order = { fail: 0, warn: 1, pass: 2 } as Record<string, number>;

// Checks shows checks, worst first; all of them when asked.
export function Checks({ checks, open = false }: { checks: Check[]; open?: boolean }) {
  const [all, setAll] = useState(open);
  const sorted = [...checks].sort((a, b) => (order[a.result] ?? 3) - (order[b.result] ?? 3));
  const loud = sorted.filter((c) => c.result !== "pass");
  const quiet = sorted.filter((c) => c.result === "pass");
  const shown = all ? sorted : [...loud, ...quiet.slice(0, Math.max(0, 4 - loud.length))];
  const count = (r: string) => checks.filter((c) => c.result === r).length;
  return (
    <>
      <h2 className="h">
        Checks{" "}
        <span className="note">
          {count("fail")} fail, {count("warn")} warn, {count("pass")} pass
        </span>
      </h2>
      <ul className="ck">
        {shown.map((c, i) => (
          <li key={i}>
            <Verdict result={c.result} />
            <div>
              {c.name}
              {c.server ? ` (${c.server})` : ""}
              <div className="note">{c.evidence}</div>
              {c.result !== "pass" && c.why && <div className="note">{c.why}</div>}
              {c.mend && <div className="note">To mend: {c.mend}</div>}
            </div>
          </li>
        ))}
      </ul>
      {shown.length < sorted.length || all ? (
        <button className="btn sm" onClick={() => setAll(!all)}>
          {all ? "Only what matters most" : `All ${sorted.length} checks`}
        </button>
      ) : null}
    </>
  );
}

function Steps({ plan }: { plan: Plan }) {
  const steps = plan.steps ?? [];
  const first = steps.findIndex((s) => s.in_pause);
  return (
    <>
      <h2 className="h">
        Steps <span className="note">about {span(steps.reduce((n, s) => n + s.expected_seconds, 0))} in all</span>
      </h2>
      <table className="st">
        <thead>
          <tr>
            <th></th>
            <th>step</th>
            <th>expected</th>
            <th>if it fails</th>
          </tr>
        </thead>
        <tbody>
          {steps.map((s, i) => (
            <Fragment key={s.name + i}>
              {i === first && plan.pause_seconds > 0 && (
                <tr className="pz pzh">
                  <td colSpan={4}>
                    <b>Writes pause here, about {span(plan.pause_seconds)}.</b>
                  </td>
                </tr>
              )}
              {s.no_return && (
                <tr className="noret">
                  <td colSpan={4}>A failure above this line undoes itself. Below it, the operation goes forward only.</td>
                </tr>
              )}
              <tr className={s.in_pause ? "pz" : ""}>
                <td>{i + 1}</td>
                <td>{s.title}</td>
                <td>{span(s.expected_seconds)}</td>
                <td>{s.if_fails}</td>
              </tr>
            </Fragment>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Choices({ plan, ask, set }: { plan: Plan; ask: Request; set: (r: Request) => void }) {
  const choices = plan.choices ?? [];
  const ways = plan.ways ?? [];
  return (
    <>
      {choices.length > 0 && (
        <>
          <h2 className="h">New primary</h2>
          <div className="cand" role="radiogroup" aria-label="New primary">
            {choices.map((c) => (
              <label key={c.server} className={c.chosen ? "on" : ""}>
                <input className="radio" type="radio" name="candidate" checked={c.chosen} onChange={() => set({ ...ask, to: c.server })} />
                <span className="nm">{c.server}</span>
                <span className="note">{c.why}</span>
              </label>
            ))}
          </div>
        </>
      )}
      {ways.length > 0 && (
        <>
          <h2 className="h">Way back</h2>
          <div className="ways cand" role="radiogroup" aria-label="Way back">
            {ways.map((w) => (
              <div key={w.name} className={w.chosen ? "on" : ""}>
                <input
                  className="radio"
                  type="radio"
                  name="way"
                  aria-label={w.name}
                  checked={w.chosen}
                  disabled={!w.possible}
                  onChange={() => set({ ...ask, way: w.name })}
                />
                <span className="nm">{w.name}</span>
                <span className="note">
                  {w.possible ? "" : "not possible: "}
                  {w.why}
                </span>
              </div>
            ))}
          </div>
        </>
      )}
    </>
  );
}

// Vouch lets a person say that servers whose agents do not answer are off for
// good: nothing else can know.
function Vouch({ view, ask, set }: { view: View; ask: Request; set: (r: Request) => void }) {
  const silent = view.servers.filter((s) => s.health === "unseen").map((s) => s.name);
  const said = ask.confirm_stopped ?? [];
  return (
    <>
      {silent.map((n) => (
        <label key={n} className="block c-halt">
          <input
            type="checkbox"
            checked={said.includes(n)}
            onChange={(e) => set({ ...ask, confirm_stopped: e.target.checked ? [...said, n] : said.filter((x) => x !== n) })}
          />{" "}
          I know that {n} is off and stays off, although its agent does not answer
        </label>
      ))}
    </>
  );
}

function Tail({ plan }: { plan: Plan }) {
  const tail = plan.examination?.tail;
  if (!tail) return null;
  const rows = tail.transactions.flatMap((t) => (t.rows ?? []).map((r) => ({ t, r })));
  return (
    <section>
      <h2 className="h">
        What only {plan.target} has <span className="note">{tail.transactions.length} transactions, saved before anything is taken out</span>
      </h2>
      <div className="journal">
        <table className="tb tl">
          <tbody>
            {rows.slice(0, 60).map(({ t, r }, i) => (
              <tr key={i}>
                <td className="mono nw">{t.gtid}</td>
                <td className="nw">
                  {r.kind} {r.table}
                </td>
                <td>
                  <RowValues row={r} />
                </td>
              </tr>
            ))}
            {rows.length === 0 &&
              tail.transactions.slice(0, 60).map((t, i) => (
                <tr key={i}>
                  <td className="mono nw">{t.gtid ?? t.id}</td>
                  <td className="nw">{t.outcome}</td>
                  <td>{(t.changes ?? []).map((c) => `${c.table}: ${c.inserts} inserts, ${c.updates} updates, ${c.deletes} deletes`).join("; ")}</td>
                </tr>
              ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

// PlanDialog shows what would happen, and begins it. Focus starts on Cancel.
export function PlanDialog({ view, request, close }: { view: View; request: Request; close: () => void }) {
  const [ask, setAsk] = useState<Request>(request);
  const [typed, setTyped] = useState("");
  const navigate = useNavigate();
  const cancel = useRef<HTMLButtonElement>(null);
  const cluster = view.cluster;
  const plan = useQuery({
    queryKey: ["plan", cluster, ask],
    queryFn: () => take(api.POST("/api/v1/clusters/{cluster}/plan", { params: { path: { cluster } }, body: ask })),
    retry: false,
    gcTime: 0,
    refetchOnWindowFocus: false,
  });
  const begin = useMutation({
    mutationFn: (p: Plan) =>
      take(
        api.POST("/api/v1/clusters/{cluster}/operations", {
          params: { path: { cluster } },
          body: { ...ask, to: ask.to ?? p.candidate, confirm_name: typed || undefined },
        }),
      ),
    onSuccess: (op) => navigate(`/operations/${op.id}`),
  });
  const kind = ask.kind ?? "";
  const p = plan.data;
  const failed = (p?.checks ?? []).find((c) => c.result === "fail");
  const named = !p?.confirm_name || typed === p.confirm_name;
  const what = `${titles[kind] ?? kind} ${ask.server || cluster}`;
  return (
    <Dialog open onClose={close} initialFocus={cancel}>
      <div className="scrim" aria-hidden="true" />
      <DialogPanel className="dlg">
        <header>
          <div>
            <DialogTitle as="h1" className="say">
              <b>{what}</b>
              {p ? `: ${p.summary}` : ""}
            </DialogTitle>
            <p className="note">
              {p ? `Plan made at ${clock(new Date(plan.dataUpdatedAt))}. Nothing has been changed.` : "Looking at all servers. Nothing is changed."}
            </p>
          </div>
          <button className="btn sm" onClick={close}>
            Close <span className="keys">Esc</span>
          </button>
        </header>
        <div className="bd">
          <div>
            {plan.isPending && <Waiting what="Making the plan: every server is looked at afresh …" />}
            <Problem error={plan.error} />
            {p && (
              <>
                <Choices plan={p} ask={ask} set={setAsk} />
                {ask.kind === "failover" && <Vouch view={view} ask={ask} set={setAsk} />}
                {ask.kind === "seed" && view.engine === "mariadb" && (
                  <label>
                    <input type="checkbox" checked={ask.way === "dump"} onChange={(e) => setAsk({ ...ask, way: e.target.checked ? "dump" : undefined })} /> By a
                    dump: statements loaded into a server of another layout
                  </label>
                )}
                {["seed", "switchover", "failover"].includes(ask.kind ?? "") && (
                  <label className="block">
                    <input type="checkbox" checked={ask.compare ?? false} onChange={(e) => setAsk({ ...ask, compare: e.target.checked })} /> Compare all tables
                    at the end
                  </label>
                )}
                {ask.kind === "seed" && (
                  <label>
                    <input type="checkbox" checked={ask.replace ?? false} onChange={(e) => setAsk({ ...ask, replace: e.target.checked })} /> The data that
                    stands there may go
                  </label>
                )}
                <Checks checks={p.checks ?? []} />
              </>
            )}
          </div>
          <div>
            {p && (
              <>
                {(p.effects ?? []).length > 0 && (
                  <ul>
                    {(p.effects ?? []).map((e) => (
                      <li key={e}>{e}</li>
                    ))}
                  </ul>
                )}
                <Tail plan={p} />
                <Steps plan={p} />
              </>
            )}
          </div>
        </div>
        {p?.destroys && !failed && (
          <div className="conf">
            <span>
              <b className="c-halt">This throws away {p.destroys}.</b> Type <b>{p.confirm_name}</b> to go on:
            </span>
            <input className="field" aria-label="Name to confirm" value={typed} onChange={(e) => setTyped(e.target.value)} autoComplete="off" />
            <span />
          </div>
        )}
        <footer>
          <div className="mr-auto">
            {failed && (
              <p className="c-halt">
                <b>Refused: nothing was changed.</b> {failed.evidence}
              </p>
            )}
            {p && !failed && p.pause_seconds > 0 && (
              <p>
                <b>Writes pause about {span(p.pause_seconds)}.</b>
              </p>
            )}
            <Problem error={begin.error} />
          </div>
          <button ref={cancel} className="btn" onClick={close}>
            Cancel
          </button>
          <button className={p?.destroys ? "btn stop" : "btn go"} disabled={!p || !!failed || !named || begin.isPending} onClick={() => p && begin.mutate(p)}>
            {titles[kind]} {ask.kind === "switchover" || ask.kind === "failover" ? `to ${p?.candidate ?? "…"}` : ask.server || cluster}
          </button>
        </footer>
      </DialogPanel>
    </Dialog>
  );
}
