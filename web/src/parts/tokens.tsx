import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { Problem, ShownOnce } from "./bits";
import { when } from "../words";
import type { Scope } from "../may";

const allScopes: Scope[] = ["metrics", "watch", "read-data", "operate", "admin"];

// Tokens makes and removes access tokens; a new one is shown once.
export function Tokens() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [scopes, setScopes] = useState<Scope[]>(["watch"]);
  const [clusters, setClusters] = useState("");
  const [days, setDays] = useState(90);
  const list = useQuery({ queryKey: ["tokens"], queryFn: () => take(api.GET("/api/v1/tokens")) });
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const add = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/tokens", {
          body: { name, scopes, clusters: clusters.split(/[ ,]+/).filter(Boolean), days },
        }),
      ),
    onSuccess: again,
  });
  const remove = useMutation({
    mutationFn: (n: string) => take(api.DELETE("/api/v1/tokens/{name}", { params: { path: { name: n } } })),
    onSuccess: again,
  });
  return (
    <section className="sec">
      <h2 className="h">Access tokens</h2>
      <table className="tb">
        <tbody>
          {(list.data?.tokens ?? []).map((t) => (
            <tr key={t.name}>
              <th scope="row">{t.name}</th>
              <td>
                {t.scopes.join(", ")} in {t.clusters.length > 0 ? t.clusters.join(", ") : "all clusters"}
              </td>
              <td>{t.expires_at ? `ends ${when(t.expires_at)}` : "never ends"}</td>
              <td>last used {when(t.last_used_at)}</td>
              <td className="num">
                <button
                  className="btn sm risk"
                  onClick={() => confirm(`Remove the token ${t.name}? Its sessions end.`) && remove.mutate(t.name)}
                >
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
        <input
          className="field"
          placeholder="Name of a new token"
          aria-label="Name of a new token"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <fieldset className="btns">
          <legend className="vh">What it is good for</legend>
          {allScopes.map((s) => (
            <label key={s}>
              <input
                type="checkbox"
                checked={scopes.includes(s)}
                onChange={(e) => setScopes(e.target.checked ? [...scopes, s] : scopes.filter((x) => x !== s))}
              />{" "}
              {s}
            </label>
          ))}
        </fieldset>
        <input
          className="field"
          placeholder="Clusters (all)"
          aria-label="Clusters that it is good for; none: all"
          value={clusters}
          onChange={(e) => setClusters(e.target.value)}
        />
        <label>
          ends after{" "}
          <input
            className="field w-[110px]"
            type="number"
            min="0"
            aria-label="Days until it ends; 0: never"
            value={days}
            onChange={(e) => setDays(Number(e.target.value))}
          />{" "}
          days
        </label>
        <button className="btn" disabled={!name || scopes.length === 0}>
          Make it
        </button>
      </form>
      {add.data && <ShownOnce what={`the token ${add.data.name}`} value={add.data.token} />}
      <Problem error={add.error ?? remove.error ?? list.error} />
    </section>
  );
}
