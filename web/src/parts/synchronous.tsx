import { useState } from "react";
import type { Request, View } from "../api/client";
import { PlanDialog } from "./plan-dialog";

type Mode = NonNullable<Request["synchronous"]>["mode"];

// What each mode asks of a commit.
const modes: Record<Mode, string> = {
  none: "its own server: a failover can lose what was acknowledged last",
  one: "one further server",
  most: "most of the servers",
};

// Synchronous shows whom commits wait for, and changes it by an operation, which shows its plan.
export function Synchronous({ v }: { v: View }) {
  const now = v.policy.synchronous;
  const [mode, setMode] = useState<Mode>(now.mode);
  const [away, setAway] = useState(now.away_seconds);
  const [request, setRequest] = useState<Request>();
  const wanted = { mode, away_seconds: mode === "none" ? 0 : away };
  return (
    <>
      <h2 className="h mt-6">Synchronous mode</h2>
      <p className="note">Before a commit is acknowledged, it is on the disk of:</p>
      {v.synchronous && <p>{v.synchronous.text}</p>}
      <fieldset className="grid gap-1" aria-label="Synchronous mode">
        {(Object.keys(modes) as Mode[]).map((m) => (
          <label key={m}>
            <input type="radio" name="synchronous" checked={mode === m} onChange={() => setMode(m)} /> <b>{m}</b>:{" "}
            {modes[m]}
          </label>
        ))}
      </fieldset>
      {mode !== "none" && (
        <label className="mt-2 grid max-w-80 gap-0.5">
          when replicas are away, commits go on without after, seconds (0: never)
          <input
            className="field"
            type="number"
            min="0"
            step="1"
            value={away}
            onChange={(e) => setAway(Number(e.target.value))}
          />
        </label>
      )}
      <div className="btns">
        <button className="btn sm" onClick={() => setRequest({ kind: "synchronize", synchronous: wanted })}>
          Show the plan …
        </button>
      </div>
      {request && <PlanDialog view={v} request={request} close={() => setRequest(undefined)} />}
    </>
  );
}
