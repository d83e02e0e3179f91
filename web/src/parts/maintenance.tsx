import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type View } from "../api/client";
import { when } from "../words";
import { Problem } from "./bits";

// Maintenance announces one of a cluster, or ends it.
export function Maintenance({ v }: { v: View }) {
  const [hours, setHours] = useState(1);
  const [why, setWhy] = useState("");
  const set = useMutation({
    mutationFn: (maintenance: View["policy"]["maintenance"]) =>
      take(
        api.PATCH("/api/v1/clusters/{cluster}", {
          params: { path: { cluster: v.cluster } },
          body: { policy: { ...v.policy, maintenance } },
        }),
      ),
  });
  const now = v.policy.maintenance;
  const on = new Date(now.until).getTime() > Date.now();
  return (
    <>
      <h2 className="h mt-6">Maintenance</h2>
      <p className="note">
        While people work on its hosts: alerts are held back, and a primary that comes back closed after a restart
        stays so. It ends by itself.
      </p>
      {on ? (
        <div className="btns">
          <span>
            until {when(now.until)}: {now.why}
          </span>
          <button className="btn sm" onClick={() => set.mutate({ until: "0001-01-01T00:00:00Z", why: "" })}>
            End it now
          </button>
        </div>
      ) : (
        <form
          className="btns"
          onSubmit={(e) => {
            e.preventDefault();
            const until = new Date(Date.now() + hours * 3600e3);
            set.mutate({ until: until.toISOString().replace(/\.\d+Z$/, "Z"), why });
          }}
        >
          <label>
            hours{" "}
            <input
              className="field num"
              type="number"
              min="0.5"
              max="168"
              step="0.5"
              value={hours}
              onChange={(e) => setHours(Number(e.target.value))}
            />
          </label>
          <label>
            why{" "}
            <input
              className="field"
              value={why}
              placeholder="new disks on gull"
              onChange={(e) => setWhy(e.target.value)}
            />
          </label>
          <button className="btn sm" disabled={!why.trim()}>
            Begin
          </button>
        </form>
      )}
      <Problem error={set.error} />
    </>
  );
}
