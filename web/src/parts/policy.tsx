import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type View } from "../api/client";
import { ruleNames, rules, type Rule } from "../names";
import { Problem } from "./bits";
import { Fencing } from "./fencing";
import { Maintenance } from "./maintenance";
import { Synchronous } from "./synchronous";

type Limit = Exclude<
  keyof View["policy"],
  "muted" | "maintenance" | "fencing" | "fencing_open" | "automatic" | "synchronous" | "gates"
>;

// Policy changes the limits and the ranks of one cluster, or removes it.
export function Policy({ v, remove }: { v: View; remove: (referee?: string) => void }) {
  const [policy, setPolicy] = useState(v.policy);
  const path = { cluster: v.cluster };
  // What is set beside this form may have changed since it was opened.
  const { maintenance, fencing, automatic, synchronous } = v.policy;
  const body = { policy: { ...policy, maintenance, fencing, automatic, synchronous } };
  const save = useMutation({
    mutationFn: () => take(api.PATCH("/api/v1/clusters/{cluster}", { params: { path }, body })),
  });
  const rank = useMutation({
    mutationFn: ({
      server,
      ...body
    }: {
      server: string;
      rank?: number;
      hidden?: boolean;
      site?: string;
      clients?: string;
    }) =>
      take(api.PATCH("/api/v1/clusters/{cluster}/servers/{server}", { params: { path: { ...path, server } }, body })),
  });
  const number = (label: string, value: number, set: (n: number) => void) => (
    <label>
      {label}
      <input
        className="field"
        type="number"
        min="0"
        step="0.5"
        value={value}
        onChange={(e) => set(Number(e.target.value))}
      />
    </label>
  );
  const field = (k: Limit, label: string, unit = 1) =>
    number(label, Number((policy[k] / unit).toFixed(3)), (n) =>
      setPolicy({ ...policy, [k]: k.endsWith("_bytes") ? Math.round(n * unit) : n }),
    );
  const setGates = (g: Partial<View["policy"]["gates"]>) => setPolicy({ ...policy, gates: { ...policy.gates, ...g } });
  const gateField = (k: "limit_seconds" | "wait_seconds", label: string) =>
    number(label, policy.gates[k], (n) => setGates({ [k]: n }));
  const mute = (rule: Rule, on: boolean) =>
    setPolicy({ ...policy, muted: on ? [...policy.muted, rule] : policy.muted.filter((r) => r !== rule) });
  return (
    <section className="sec">
      <h2 className="h">Ranks and places</h2>
      <table className="tb">
        <tbody>
          {v.servers.map((s) => (
            <tr key={s.name}>
              <th scope="row">{s.name}</th>
              <td>
                <label>
                  rank{" "}
                  <select
                    className="field"
                    value={s.rank}
                    onChange={(e) => rank.mutate({ server: s.name, rank: Number(e.target.value) })}
                  >
                    {[0, 1, 2, 3, 4, 5].map((n) => (
                      <option key={n} value={n}>
                        {n === 0 ? "never" : n}
                      </option>
                    ))}
                  </select>
                </label>
              </td>
              <td>
                <label>
                  <input
                    type="checkbox"
                    checked={s.hidden}
                    onChange={(e) => rank.mutate({ server: s.name, hidden: e.target.checked })}
                  />{" "}
                  hidden from readers
                </label>
              </td>
              <td>
                <label>
                  site{" "}
                  <input
                    className="field w-[110px]"
                    defaultValue={s.site ?? ""}
                    onBlur={(e) =>
                      e.target.value !== (s.site ?? "") && rank.mutate({ server: s.name, site: e.target.value })
                    }
                  />
                </label>
              </td>
              <td>
                <label>
                  address for clients{" "}
                  <input
                    className="field w-44"
                    placeholder={s.address}
                    defaultValue={s.clients ?? ""}
                    onBlur={(e) =>
                      e.target.value !== (s.clients ?? "") && rank.mutate({ server: s.name, clients: e.target.value })
                    }
                  />
                </label>
              </td>
            </tr>
          ))}
          {v.referees?.map((r) => (
            <tr key={r.name}>
              <th scope="row">{r.name}</th>
              <td colSpan={3}>referee: no database, and no rank</td>
              <td>
                <button className="btn sm risk" onClick={() => remove(r.name)}>
                  Remove {r.name}…
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <h2 className="h mt-6">Limits</h2>
      <form
        className="grid max-w-none grid-cols-4 gap-x-6 gap-y-2 [&_label]:grid [&_label]:gap-0.5"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {field("behind_seconds", "behind from, seconds")}
        {field("unseen_seconds", "unseen after, seconds")}
        {field("stalled_seconds", "stalled after, seconds without progress")}
        <p className="note col-span-full">An alert is raised from these limits on; 0 is never.</p>
        {field("at_risk_bytes", "at risk, MB", 1 << 20)}
        {field("slot_bytes", "kept by an unread slot, MB", 1 << 20)}
        {field("full_hours", "log disk full within, hours")}
        {field("conflicts_per_hour", "cancelled queries an hour")}
        {field("clock_seconds", "clock off by, seconds")}
        <p className="note col-span-full">
          Applications that connect through gates, at a planned change of the primary and whenever there is none
        </p>
        {gateField("limit_seconds", "transactions may take, seconds")}
        {gateField("wait_seconds", "clients wait for a server, seconds")}
        <label className="col-span-2 flex! items-baseline gap-2">
          <input
            type="checkbox"
            checked={policy.gates.primary_reads}
            onChange={(e) => setGates({ primary_reads: e.target.checked })}
          />
          <span>readers go to the primary while no replica is fit</span>
        </label>
        <fieldset className="col-span-full">
          <legend className="note">Muted: no alert, the problem is shown all the same</legend>
          <div className="grid grid-cols-[repeat(auto-fill,minmax(260px,1fr))]">
            {ruleNames.map((r) => (
              <label key={r} className="flex! items-baseline gap-2 pr-4">
                <input
                  type="checkbox"
                  checked={policy.muted.includes(r)}
                  onChange={(e) => mute(r, e.target.checked)}
                />
                <span>{rules[r]}</span>
              </label>
            ))}
          </div>
        </fieldset>
        <div className="btns col-span-full">
          <button className="btn">Save the policy of {v.cluster}</button>
          {save.isSuccess && <span className="note">saved</span>}
        </div>
      </form>
      <Fencing v={v} />
      <Synchronous v={v} />
      <Maintenance v={v} />
      <div className="btns">
        <button className="btn sm risk" onClick={() => remove()}>
          Remove {v.cluster}…
        </button>
      </div>
      <Problem error={save.error ?? rank.error} />
    </section>
  );
}
