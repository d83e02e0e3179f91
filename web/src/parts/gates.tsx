import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type View } from "../api/client";
import { span } from "../words";
import { Command, Problem, Waiting } from "./bits";
import { Glyph } from "./glyphs";

type Gate = NonNullable<View["gates"]>[number];

// leads says in a few words what a gate does with writers.
function leads(g: Gate): string {
  const s = g.shows;
  if (!g.answers) return g.why || "does not answer";
  if (!s) return "has shown nothing yet";
  if (s.held_seconds) return `holds sessions for ${span(s.held_seconds)}`;
  return s.to ? `leads to ${s.to}` : `leads nowhere: ${s.why}`;
}

function count(g: Gate): number {
  return (g.shows?.doors ?? []).reduce((n, d) => n + d.sessions, 0);
}

// Gates are the addresses that applications connect to, with what came of their sessions.
export function Gates({ view }: { view: View }) {
  const [open, setOpen] = useState<string>();
  const gates = view.gates ?? [];
  if (gates.length === 0) return null;
  return (
    <section className="sec overflow-x-auto">
      <h2 className="h">Gates</h2>
      <table className="tb list">
        <thead>
          <tr>
            <th>gate</th>
            <th>writers</th>
            <th>writer address</th>
            <th>reader address</th>
            <th className="num">sessions</th>
            <th className="num">waiting</th>
            <th className="num">carried</th>
            <th className="num">cut</th>
            <th className="num">closed</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {gates.map((g) => (
            <tr key={g.name}>
              <th scope="row">{g.name}</th>
              <td>
                <span className={`hw ${g.answers && g.shows?.to ? "is-ok" : "is-behind"}`}>
                  <Glyph name={g.answers && g.shows?.to ? "pass" : "warn"} /> {leads(g)}
                </span>
              </td>
              <td className="mono">
                {g.shows?.writer.map((a) => (
                  <div key={a}>{a}</div>
                ))}
              </td>
              <td className="mono">
                {g.shows?.reader?.map((a) => (
                  <div key={a}>{a}</div>
                ))}
              </td>
              <td className="num" data-l="sessions">
                {count(g)}
              </td>
              <td className="num" data-l="waiting">
                {g.shows?.waiting ?? 0}
              </td>
              <td className="num" data-l="carried">
                {g.shows?.carried ?? 0}
              </td>
              <td className="num" data-l="cut">
                {g.shows?.cut ?? 0}
              </td>
              <td className="num" data-l="closed">
                {g.shows?.closed ?? 0}
              </td>
              <td className="num">
                <button className="btn sm" onClick={() => setOpen(open === g.name ? undefined : g.name)}>
                  {open === g.name ? "Hide sessions" : "Sessions"}
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {open && <Sessions cluster={view.cluster} gate={open} />}
      <p className="note">Where applications connect, ready to paste:</p>
      <Command>{`crosstwin connect ${view.cluster}`}</Command>
    </section>
  );
}

// Sessions lists those of one gate, each with what stands in the way of carrying it.
function Sessions({ cluster, gate }: { cluster: string; gate: string }) {
  const list = useQuery({
    queryKey: ["gate", cluster, gate],
    refetchInterval: 2000,
    queryFn: () =>
      take(
        api.GET("/api/v1/clusters/{cluster}/gates/{gate}/sessions", {
          params: { path: { cluster, gate } },
        }),
      ),
  });
  if (list.error) return <Problem error={list.error} />;
  if (!list.data) return <Waiting what="Asking the gate …" />;
  if (list.data.sessions.length === 0) return <p className="note">{gate} has no session now.</p>;
  return (
    <table className="tb list" aria-label={`Sessions of ${gate}`}>
      <thead>
        <tr>
          <th className="num">session</th>
          <th>door</th>
          <th>user</th>
          <th>database</th>
          <th>from</th>
          <th>server</th>
          <th>state</th>
          <th className="num">for</th>
          <th>can be carried</th>
        </tr>
      </thead>
      <tbody>
        {list.data.sessions.map((s) => (
          <tr key={s.id}>
            <td className="num">{s.id}</td>
            <td>{s.door}</td>
            <th scope="row">{s.user}</th>
            <td>{s.database}</td>
            <td className="mono">{s.from}</td>
            <td>{s.server || "–"}</td>
            <td>{s.state}</td>
            <td className="num">{span(s.state_seconds)}</td>
            <td>{s.portable ? "yes" : s.why_not ? `no: ${s.why_not}` : "not known yet"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
