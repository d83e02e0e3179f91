import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { Problem, ShownOnce } from "./bits";
import { when } from "../words";

// Channels are the web addresses that alerts are sent to.
export function Channels() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [url, setURL] = useState("");
  const list = useQuery({ queryKey: ["channels"], queryFn: () => take(api.GET("/api/v1/channels")) });
  const again = () => client.invalidateQueries({ queryKey: ["channels"] });
  const path = (n: string) => ({ params: { path: { name: n } } });
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/channels", { body: { name, url } })),
    onSuccess: again,
  });
  const remove = useMutation({
    mutationFn: (n: string) => take(api.DELETE("/api/v1/channels/{name}", path(n))),
    onSuccess: again,
  });
  const test = useMutation({
    mutationFn: (n: string) => take(api.POST("/api/v1/channels/{name}/test", path(n))),
    onSuccess: again,
  });
  return (
    <section className="sec">
      <h2 className="h">
        Where alerts are sent <span className="note">signed JSON, retried for about a day</span>
      </h2>
      <table className="tb">
        <tbody>
          {list.data?.command && (
            <tr>
              <th scope="row">command</th>
              <td className="mono">{list.data.command}</td>
              <td />
              <td className="num">
                <button className="btn sm" onClick={() => test.mutate("command")}>
                  Test
                </button>
              </td>
            </tr>
          )}
          {(list.data?.channels ?? []).map((c) => (
            <tr key={c.name}>
              <th scope="row">{c.name}</th>
              <td className="mono">{c.url}</td>
              <td>
                {c.last ? (
                  c.last.done_at ? (
                    `arrived ${when(c.last.done_at)}`
                  ) : (
                    <span className="c-halt">{c.last.error || "on its way"}</span>
                  )
                ) : (
                  "nothing sent yet"
                )}
              </td>
              <td className="num">
                <span className="btns">
                  <button className="btn sm" onClick={() => test.mutate(c.name)}>
                    Test
                  </button>
                  <button
                    className="btn sm risk"
                    onClick={() => confirm(`Send no more alerts to ${c.name}?`) && remove.mutate(c.name)}
                  >
                    Remove
                  </button>
                </span>
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
          placeholder="Name"
          aria-label="Name of a channel"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <input
          className="field"
          placeholder="https://…"
          aria-label="Web address"
          value={url}
          onChange={(e) => setURL(e.target.value)}
        />
        <button className="btn" disabled={!name || !url}>
          Add
        </button>
      </form>
      {add.data && <ShownOnce what={`the secret that signs what ${add.data.name} gets`} value={add.data.secret} />}
      {test.data && (
        <p role="status">
          {test.data.error ? (
            <span className="c-halt">The test message did not arrive: {test.data.error}</span>
          ) : (
            "The test message arrived."
          )}
        </p>
      )}
      <Problem error={add.error ?? remove.error ?? test.error ?? list.error} />
    </section>
  );
}
