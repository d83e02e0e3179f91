import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { Authority } from "../parts/authority";
import { Channels } from "../parts/channels";
import { Tokens } from "../parts/tokens";
import { size, zone } from "../words";
import { May } from "../may";

function Appearance() {
  const [theme, setTheme] = useState(localStorage.getItem("theme") ?? "system");
  const [place, setPlace] = useState(zone());
  const choose = (t: string) => {
    setTheme(t);
    localStorage.setItem("theme", t);
    if (t === "system") delete document.documentElement.dataset.theme;
    else document.documentElement.dataset.theme = t;
  };
  return (
    <section className="sec">
      <h2 className="h">Appearance</h2>
      <div className="btns" role="group" aria-label="Theme">
        {["system", "light", "dark"].map((t) => (
          <button key={t} className="pick" aria-pressed={theme === t} onClick={() => choose(t)}>
            {t}
          </button>
        ))}
      </div>
      <div className="btns" role="group" aria-label="Time zone of shown times">
        {(["utc", "local"] as const).map((z) => (
          <button
            key={z}
            className="pick"
            aria-pressed={place === z}
            onClick={() => {
              localStorage.setItem("zone", z);
              setPlace(z);
            }}
          >
            times in {z === "utc" ? "UTC" : "this browser’s zone"}
          </button>
        ))}
      </div>
    </section>
  );
}

function Records() {
  const q = useQuery({
    queryKey: ["records"],
    queryFn: () => take(api.GET("/api/v1/records")),
    refetchInterval: 30000,
  });
  if (!q.data) return null;
  const d = q.data;
  return (
    <section className="sec">
      <h2 className="h">
        Records <span className="note">{d.path}</span>
      </h2>
      <p>
        They take <b>{size(d.file_bytes)}</b>. Samples of {d.servers} servers take {size(d.sample_bytes)}, and{" "}
        {size(d.sample_bytes_at_full_age)} once the oldest are as old as they are kept for; until then they grow by{" "}
        {size(d.growth_bytes_per_day)} a day. {d.operations} operations and {d.events} events are kept.
      </p>
    </section>
  );
}

export function Settings() {
  const client = useQueryClient();
  const leave = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/session")),
    onSuccess: () => client.setQueryData(["session"], null),
  });
  return (
    <>
      <section className="fl-head">
        <h1 className="say">
          <b>Settings</b>
        </h1>
        <button className="btn" onClick={() => leave.mutate()}>
          Log out
        </button>
      </section>
      <div className="cols">
        <div>
          <Appearance />
          <May do="admin">
            <Tokens />
          </May>
        </div>
        <div>
          <May do="admin">
            <Channels />
            <Records />
            <Authority />
          </May>
        </div>
      </div>
    </>
  );
}
