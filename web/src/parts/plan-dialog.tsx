import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { Fragment, useRef, useState } from "react";
import type { Check, Plan, Request, View } from "../api/client";
import { kinds } from "../names";
import { clock, span } from "../words";
import { NotBegun, Problem, Waiting } from "./bits";
import { Verdict } from "./glyphs";
import { RowValues } from "./row-values";
import { usePlan } from "./use-plan";
import { Ways } from "./ways";

const order: Record<Check["result"], number> = { fail: 0, warn: 1, pass: 2 };

// Checks shows checks, worst first; all of them when asked.
export function Checks({ checks, open = false }: { checks: Check[]; open?: boolean }) {
  const [all, setAll] = useState(open);
  const sorted = [...checks].sort((a, b) => order[a.result] - order[b.result]);
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
              {c.mend && <div className="note">Fix: {c.mend}</div>}
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
                <tr className="[&>td]:border-t [&>td]:border-ink">
                  <td colSpan={4}>
                    A failure above this line undoes itself. Below it, the operation goes forward only.
                  </td>
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
                <input
                  className="radio"
                  type="radio"
                  name="candidate"
                  checked={c.chosen}
                  onChange={() => set({ ...ask, to: c.server })}
                />
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
          <Ways plan={plan} server={plan.target ?? ""} choose={(way) => set({ ...ask, way })} />
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
            onChange={(e) =>
              set({ ...ask, confirm_stopped: e.target.checked ? [...said, n] : said.filter((x) => x !== n) })
            }
          />{" "}
          I have verified that {n} is off and will stay off
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
        What only {plan.target} has{" "}
        <span className="note">{tail.transactions.length} transactions, saved before anything is removed</span>
      </h2>
      <div className="max-h-90 overflow-auto">
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
                  <td>
                    {(t.changes ?? [])
                      .map((c) => `${c.table}: ${c.inserts} inserts, ${c.updates} updates, ${c.deletes} deletes`)
                      .join("; ")}
                  </td>
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
  const cancel = useRef<HTMLButtonElement>(null);
  const cluster = view.cluster;
  const { query, plan: p, begin, changes } = usePlan(cluster, ask);
  const failed = (p?.checks ?? []).find((c) => c.result === "fail");
  const named = !p?.confirm_name || typed === p.confirm_name;
  const { title } = kinds[ask.kind];
  const what = `${title} ${ask.server || cluster}`;
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
              {p
                ? `Plan made at ${clock(new Date(query.dataUpdatedAt))}. Nothing has been changed.`
                : "Looking at all servers. Nothing is changed."}
            </p>
          </div>
          <button className="btn sm" onClick={close}>
            Close <span className="keys">Esc</span>
          </button>
        </header>
        <div className="bd">
          <div>
            {query.isPending && <Waiting what="Making the plan: every server is looked at again …" />}
            <Problem error={query.error} />
            {p && (
              <>
                <Choices plan={p} ask={ask} set={setAsk} />
                {ask.kind === "failover" && <Vouch view={view} ask={ask} set={setAsk} />}
                {ask.kind === "seed" && view.engine === "mariadb" && (
                  <label>
                    <input
                      type="checkbox"
                      checked={ask.way === "dump"}
                      onChange={(e) => setAsk({ ...ask, way: e.target.checked ? "dump" : undefined })}
                    />{" "}
                    By a dump: statements loaded into a server of another layout
                  </label>
                )}
                {["seed", "switchover", "failover"].includes(ask.kind ?? "") && (
                  <label className="block">
                    <input
                      type="checkbox"
                      checked={ask.compare ?? false}
                      onChange={(e) => setAsk({ ...ask, compare: e.target.checked })}
                    />{" "}
                    Compare all tables at the end
                  </label>
                )}
                {ask.kind === "seed" && (
                  <label>
                    <input
                      type="checkbox"
                      checked={ask.replace ?? false}
                      onChange={(e) => setAsk({ ...ask, replace: e.target.checked })}
                    />{" "}
                    The data that is there may be removed
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
              <b className="c-halt">This discards {p.destroys}.</b> Type <b>{p.confirm_name}</b> to go on:
            </span>
            <input
              className="field"
              aria-label="Name to confirm"
              value={typed}
              onChange={(e) => setTyped(e.target.value)}
              autoComplete="off"
            />
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
            <NotBegun changes={changes} error={begin.error} />
          </div>
          <button ref={cancel} className="btn" onClick={close}>
            Cancel
          </button>
          <button
            className={p?.destroys ? "btn stop" : "btn go"}
            disabled={!p || !!failed || !named || begin.isPending || query.isFetching}
            onClick={() => begin.mutate(typed)}
          >
            {title}{" "}
            {ask.kind === "switchover" || ask.kind === "failover"
              ? `to ${p?.candidate ?? "…"}`
              : ask.server || cluster}
          </button>
        </footer>
      </DialogPanel>
    </Dialog>
  );
}
