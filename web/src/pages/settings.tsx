import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type View } from "../api/client";
import { useLive } from "../live";
import { Problem } from "../parts/bits";
import { when, zone } from "../words";

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

function Tokens() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const list = useQuery({ queryKey: ["tokens"], queryFn: () => take(api.GET("/api/v1/tokens")) });
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const add = useMutation({ mutationFn: () => take(api.POST("/api/v1/tokens", { body: { name } })), onSuccess: again });
  const remove = useMutation({ mutationFn: (n: string) => take(api.DELETE("/api/v1/tokens/{name}", { params: { path: { name: n } } })), onSuccess: again });
  return (
    <section className="sec">
      <h2 className="h">Access tokens</h2>
      <table className="tb">
        <tbody>
          {(list.data?.tokens ?? []).map((t) => (
            <tr key={t.name}>
              <th scope="row">{t.name}</th>
              <td>made {when(t.created_at)}</td>
              <td>last used {when(t.last_used_at)}</td>
              <td className="num">
                <button className="btn sm risk" onClick={() => confirm(`Remove the token ${t.name}? Its sessions end.`) && remove.mutate(t.name)}>
                  Remove
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <form
        className="btns"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <input className="field" placeholder="Name of a new token" aria-label="Name of a new token" value={name} onChange={(e) => setName(e.target.value)} />
        <button className="btn" disabled={!name}>
          Make it
        </button>
      </form>
      {add.data && (
        <>
          <p>
            <b>Shown this once:</b> the token {add.data.name}
          </p>
          <pre className="cmd">{add.data.token}</pre>
        </>
      )}
      <Problem error={add.error ?? remove.error ?? list.error} />
    </section>
  );
}

function Policy({ v }: { v: View }) {
  const [policy, setPolicy] = useState(v.policy);
  const path = { cluster: v.cluster };
  const save = useMutation({ mutationFn: () => take(api.PATCH("/api/v1/clusters/{cluster}", { params: { path }, body: { policy } })) });
  const { forget } = useLive();
  const remove = useMutation({ mutationFn: () => take(api.DELETE("/api/v1/clusters/{cluster}", { params: { path } })), onSuccess: () => forget(v.cluster) });
  const rank = useMutation({
    mutationFn: (x: { server: string; rank: number }) =>
      take(api.PATCH("/api/v1/clusters/{cluster}/servers/{server}", { params: { path: { ...path, server: x.server } }, body: { rank: x.rank } })),
  });
  const field = (k: keyof View["policy"], label: string) => (
    <label>
      {label}
      <input className="field" type="number" min="0" step="0.5" value={policy[k]} onChange={(e) => setPolicy({ ...policy, [k]: Number(e.target.value) })} />
    </label>
  );
  return (
    <section className="sec">
      <h2 className="h">{v.cluster}</h2>
      <form
        className="form"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {field("behind_seconds", "behind from, seconds")}
        {field("unseen_seconds", "unseen after, seconds")}
        {field("stalled_seconds", "stalled after, seconds without progress")}
        <div className="btns">
          <button className="btn">Save the policy of {v.cluster}</button>
          {save.isSuccess && <span className="note">saved</span>}
        </div>
      </form>
      <table className="tb">
        <tbody>
          {v.servers.map((s) => (
            <tr key={s.name}>
              <th scope="row">{s.name}</th>
              <td>
                <label>
                  rank{" "}
                  <select className="field" value={s.rank} onChange={(e) => rank.mutate({ server: s.name, rank: Number(e.target.value) })}>
                    {[0, 1, 2, 3, 4, 5].map((n) => (
                      <option key={n} value={n}>
                        {n === 0 ? "never" : n}
                      </option>
                    ))}
                  </select>
                </label>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="btns">
        <button
          className="btn sm risk"
          onClick={() => confirm(`Forget the cluster ${v.cluster}? Its databases go on as they are; Cross Twin no longer looks after them.`) && remove.mutate()}
        >
          Remove {v.cluster}
        </button>
      </div>
      <Problem error={save.error ?? rank.error ?? remove.error} />
    </section>
  );
}

export function Settings() {
  const { views } = useLive();
  const client = useQueryClient();
  const leave = useMutation({ mutationFn: () => take(api.DELETE("/api/v1/session")), onSuccess: () => client.setQueryData(["session"], null) });
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
          <Tokens />
        </div>
        <div>
          {views.map((v) => (
            <Policy key={v.cluster} v={v} />
          ))}
        </div>
      </div>
    </>
  );
}
