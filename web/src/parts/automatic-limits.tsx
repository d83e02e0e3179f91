import { useState } from "react";
import type { View } from "../api/client";

type Automatic = View["policy"]["automatic"];
type Limits = Omit<Automatic, "on" | "off_until" | "rejoin">;

// AutomaticLimits is what has to hold for a failover to begin by itself, and who is preferred.
export function AutomaticLimits({
  automatic,
  busy,
  save,
}: {
  automatic: Automatic;
  busy: boolean;
  save: (limits: Limits) => void;
}) {
  const { loss_bytes, loss_transactions, quiet_seconds, start_seconds, least_left, sites } = automatic;
  const [limits, setLimits] = useState<Limits>({
    loss_bytes,
    loss_transactions,
    quiet_seconds,
    start_seconds,
    least_left,
    sites,
  });
  const field = (k: Exclude<keyof Limits, "sites">, label: string, unit = 1) => (
    <label>
      {label}
      <input
        className="field"
        type="number"
        min="0"
        step={unit > 1 ? 0.5 : 1}
        value={limits[k] / unit}
        onChange={(e) => setLimits({ ...limits, [k]: Math.round(Number(e.target.value) * unit) })}
      />
    </label>
  );
  return (
    <form
      aria-label="Limits of automatic failover"
      className="mt-2 grid max-w-none grid-cols-3 gap-x-6 gap-y-2 [&_label]:grid [&_label]:gap-0.5"
      onSubmit={(e) => {
        e.preventDefault();
        save({ ...limits, sites: limits.sites.map((x) => x.trim()).filter(Boolean) });
      }}
    >
      {field("loss_bytes", "log that may be lost, MB", 1 << 20)}
      {field("loss_transactions", "the same in transactions (MariaDB)")}
      {field("quiet_seconds", "least time between two, seconds")}
      {field("start_seconds", "start a crashed primary again first, seconds (0: no)")}
      {field("least_left", "servers that have to be left")}
      <label>
        sites preferred, the best first
        <input
          className="field"
          placeholder="none"
          value={limits.sites.join(", ")}
          onChange={(e) => setLimits({ ...limits, sites: e.target.value.split(",").map((x) => x.trimStart()) })}
        />
      </label>
      <div className="btns col-span-full">
        <button className="btn sm" disabled={busy}>
          Save these limits
        </button>
      </div>
    </form>
  );
}
