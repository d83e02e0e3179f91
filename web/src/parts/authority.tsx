import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import type { components } from "../api/schema";
import { when } from "../words";
import { Problem } from "./bits";

type State = components["schemas"]["AuthorityState"];
type Member = State["servers"][number];

type Stage = NonNullable<State["stage"]>;

const stages: Record<Stage, string> = {
  "": "No exchange is under way.",
  introducing: "It is being exchanged. Step 1 of 3: every agent is told to trust the new authority beside it.",
  renewing: "It is new. Step 2 of 3: the certificates of agents and databases are renewed by it.",
};

const lacks: Record<NonNullable<Member["lacks"]>, string> = {
  "": "",
  trust: "its agent to trust the authorities in use",
  certificate: "the new certificate of its agent",
  "database certificate": "the new certificate of its database",
};

// waitsFor says what an exchange waits for on a server; empty: for nothing.
function waitsFor(x: Member, stage: Stage) {
  if (x.unreachable && stage) return `its agent, which cannot be reached: ${x.unreachable}`;
  if (x.lacks === "trust" && !stage) return "its agent to forget the former authority (step 3 of 3)";
  return lacks[x.lacks ?? ""];
}

function Exchange({ state, close }: { state: State; close: () => void }) {
  const client = useQueryClient();
  const rotate = useMutation({
    mutationFn: () => take(api.POST("/api/v1/authority/rotate", { body: { fingerprint: state.fingerprint } })),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ["authority"] });
      close();
    },
  });
  return (
    <>
      <ol className="ml-5 list-decimal">
        <li>Every agent is told to trust a new authority beside the present one.</li>
        <li>
          Once all do, the new one signs: all certificates of the service, the agents and the databases are renewed,
          with new keys. No server is restarted, and what is connected stays so.
        </li>
        <li>Once all are, the present authority is forgotten everywhere.</li>
      </ol>
      <p className="note">
        It goes on by itself and waits at each step for a server that it cannot reach. Enrolment codes that were not
        used by then have to be made again. Whoever connects with --ca needs the new file: crosstwin authority show
        --certificates
      </p>
      <div className="btns">
        <button className="btn go" disabled={rotate.isPending} onClick={() => rotate.mutate()}>
          Exchange it
        </button>
        <button className="btn" onClick={close}>
          Leave it
        </button>
      </div>
      <Problem error={rotate.error} />
    </>
  );
}

// Authority shows which authority signs all certificates, and exchanges it.
export function Authority() {
  const [asking, setAsking] = useState(false);
  const q = useQuery({
    queryKey: ["authority"],
    queryFn: () => take(api.GET("/api/v1/authority")),
    refetchInterval: 3000,
  });
  if (!q.data) return null;
  const s = q.data;
  const waiting = s.servers.map((x) => ({ ...x, for: waitsFor(x, s.stage ?? "") })).filter((x) => x.for);
  return (
    <section className="sec">
      <h2 className="h">
        Authority <span className="note">it signs the certificates of agents and databases</span>
      </h2>
      <p>
        <b className="mono">{s.fingerprint}</b>, made {when(s.made)}, good until {when(s.ends)}.{" "}
        {stages[s.stage ?? ""]}
      </p>
      {waiting.length > 0 && (
        <ul className="ops">
          {waiting.map((x) => (
            <li key={`${x.cluster}/${x.server}`}>
              <b>{x.server}</b> <span className="c-3">{x.cluster}</span>{" "}
              <span className="note">waits for {x.for}</span>
            </li>
          ))}
        </ul>
      )}
      {asking ? (
        <Exchange state={s} close={() => setAsking(false)} />
      ) : (
        !s.stage && (
          <div className="btns">
            <button className="btn sm" onClick={() => setAsking(true)}>
              Exchange it…
            </button>
          </div>
        )
      )}
    </section>
  );
}
