import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { Problem, ShownOnce } from "./bits";
import { when } from "../words";

// Tokens makes and removes access tokens; a new one is shown once.
export function Tokens() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const list = useQuery({ queryKey: ["tokens"], queryFn: () => take(api.GET("/api/v1/tokens")) });
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/tokens", { body: { name } })),
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
              <td>made {when(t.created_at)}</td>
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
        <button className="btn" disabled={!name}>
          Make it
        </button>
      </form>
      {add.data && <ShownOnce what={`the token ${add.data.name}`} value={add.data.token} />}
      <Problem error={add.error ?? remove.error ?? list.error} />
    </section>
  );
}
