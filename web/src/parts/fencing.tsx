import { useMutation } from "@tanstack/react-query";
import { api, take, type View } from "../api/client";
import { when } from "../words";
import { AutomaticLimits } from "./automatic-limits";
import { Problem } from "./bits";

const never = "0001-01-01T00:00:00Z";

// Fencing switches it and automatic failover on or off for one cluster, and says who may write now.
export function Fencing({ v }: { v: View }) {
  const set = useMutation({
    mutationFn: (change: Partial<View["policy"]>) =>
      take(
        api.PATCH("/api/v1/clusters/{cluster}", {
          params: { path: { cluster: v.cluster } },
          body: { policy: { ...v.policy, ...change } },
        }),
      ),
  });
  const { fencing, fencing_open: open, automatic } = v.policy;
  const off = new Date(automatic.off_until).getTime() > Date.now();
  const hour = () => new Date(Date.now() + 3600e3).toISOString().replace(/\.\d+Z$/, "Z");
  const turn = (on: boolean, until = never) => set.mutate({ automatic: { ...automatic, on, off_until: until } });
  return (
    <>
      <h2 className="h mt-6">Fencing</h2>
      <p className="note">
        {fencing
          ? "The primary takes writes only while its permission runs. A failover needs nobody's word that it is off."
          : "Nothing stops a primary that cannot be reached: before a failover a person makes sure that it is off."}
        {open && " Nobody has decided yet whether it is to be on."}
      </p>
      {v.permission && <p>{v.permission.text}</p>}
      <div className="btns">
        <button
          className="btn sm"
          disabled={set.isPending}
          onClick={() =>
            set.mutate({
              fencing: !fencing,
              fencing_open: false,
              automatic: { ...automatic, on: automatic.on && !fencing },
            })
          }
        >
          {fencing ? "Switch fencing off" : "Switch fencing on"}
        </button>
        {open && (
          <button className="btn sm" disabled={set.isPending} onClick={() => set.mutate({ fencing_open: false })}>
            Leave it off
          </button>
        )}
      </div>
      <h2 className="h mt-6">Automatic failover</h2>
      <p className="note">
        {!automatic.on
          ? "A person begins every failover."
          : off
            ? `Off until ${when(automatic.off_until)}; then a failover begins by itself again when the primary is lost.`
            : "A failover begins by itself when the primary is lost, and says what was seen."}
        {!fencing && " It needs fencing."}
      </p>
      <div className="btns">
        <button className="btn sm" disabled={set.isPending || !fencing} onClick={() => turn(!automatic.on)}>
          {automatic.on ? "Switch it off" : "Switch it on"}
        </button>
        {automatic.on && (
          <button className="btn sm" disabled={set.isPending} onClick={() => turn(true, off ? never : hour())}>
            {off ? "On again now" : "Off for an hour"}
          </button>
        )}
      </div>
      <AutomaticLimits
        automatic={automatic}
        busy={set.isPending}
        save={(limits) => set.mutate({ automatic: { ...automatic, ...limits } })}
      />
      <h2 className="h mt-6">Automatic rejoin</h2>
      <p className="note">Which servers that crashed or were fenced come back as replicas by themselves.</p>
      <select
        className="field"
        aria-label="Automatic rejoin"
        value={automatic.rejoin || "never"}
        disabled={set.isPending}
        onChange={(e) => set.mutate({ automatic: { ...automatic, rejoin: e.target.value } })}
      >
        {["never", "without a tail", "after saving the tail"].map((x) => (
          <option key={x}>{x}</option>
        ))}
      </select>
      <Problem error={set.error} />
    </>
  );
}
