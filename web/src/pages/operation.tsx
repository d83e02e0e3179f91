import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, take, type Operation as Op } from "../api/client";
import { Facts, Problem, Waiting } from "../parts/bits";
import { Course } from "../parts/course";
import { TailTable, type Transaction } from "../parts/tail-table";
import { kinds } from "../names";
import { size, span, when } from "../words";
import { May } from "../may";

type Timed = {
  title: string;
  state: string;
  from: number;
  to: number;
  pause: boolean;
  noReturn: boolean;
  seen?: string;
  error?: string;
  note: string;
};

// timed puts the plan and its journal together: when each step ran, in seconds
// from the beginning.
function timed(op: Op, now: number): Timed[] {
  const zero = Date.parse(op.created_at);
  return (op.plan.steps ?? []).map((p, i) => {
    const s = op.steps?.[i];
    const from = s?.started_at ? (Date.parse(s.started_at) - zero) / 1000 : NaN;
    const to = s?.ended_at
      ? (Date.parse(s.ended_at) - zero) / 1000
      : s?.started_at
        ? Math.max(from, (now - zero) / 1000)
        : NaN;
    const g = s?.progress;
    const note =
      g && !s?.ended_at
        ? [
            g.note,
            g.total_bytes > 0 ? `${size(g.done_bytes)} of ${size(g.total_bytes)}` : "",
            g.bytes_per_second > 0 ? `${size(g.bytes_per_second)}/s` : "",
            g.seconds_left > 0 ? `${span(g.seconds_left)} left` : "",
          ]
            .filter(Boolean)
            .join(", ")
        : "";
    return {
      title: p.title ?? "",
      state: s?.state ?? "waiting",
      from,
      to,
      pause: p.in_pause,
      noReturn: p.no_return,
      seen: s?.seen,
      error: s?.error,
      note,
    };
  });
}

// widened maps time to x: inside the write pause it is drawn wider.
function widened(steps: Timed[], width: number) {
  const ran = steps.filter((s) => !Number.isNaN(s.from));
  const end = Math.max(0.001, ...ran.map((s) => s.to));
  const pause = ran.filter((s) => s.pause);
  if (pause.length === 0) return { x: (t: number) => (t / end) * width, from: 0, to: 0, seconds: 0 };
  const a = Math.min(...pause.map((s) => s.from));
  const b = Math.max(...pause.map((s) => s.to));
  const share = 0.34; // of the width, for the pause
  const outside = Math.max(0.001, end - (b - a));
  const k = ((1 - share) * width) / outside;
  const x = (t: number) =>
    t <= a
      ? t * k
      : t <= b
        ? a * k + ((t - a) / Math.max(1e-6, b - a)) * share * width
        : a * k + share * width + (t - b) * k;
  return { x, from: x(a), to: x(b), seconds: b - a };
}

function Waterfall({ op }: { op: Op }) {
  const steps = timed(op, Date.now());
  const width = 240;
  const scale = widened(steps, width);
  return (
    <div className="wf overflow-x-auto">
      {scale.seconds > 0 && (
        <p>
          <b className="text-(length:--t-fig) leading-(--l-fig)">
            {span(op.ended_at ? op.pause_seconds || scale.seconds : scale.seconds)}
          </b>{" "}
          <span className="c-2">writes paused. Time is drawn wider inside the pause.</span>
        </p>
      )}
      <table className="tb">
        <thead>
          <tr>
            <th className="num">no.</th>
            <th>step</th>
            <th>time</th>
            <th className="num">took</th>
          </tr>
        </thead>
        <tbody>
          {steps.map((s, i) => (
            <tr key={i} className={s.noReturn ? "noret" : ""}>
              <td className="num c-3">{i + 1}</td>
              <td>
                {s.noReturn && <div className="note">point of no return</div>}
                {s.title}
                {(s.error || s.seen || s.note) && (
                  <div className={s.error ? "note c-halt" : "note"}>{s.error || s.note || s.seen}</div>
                )}
              </td>
              <td>
                <svg width={width} height="22" aria-hidden="true">
                  {scale.seconds > 0 && (
                    <rect className="pz" x={scale.from} y="0" width={scale.to - scale.from} height="22" />
                  )}
                  {!Number.isNaN(s.from) && (
                    <rect
                      className={
                        s.state === "failed" ? "fill-(--halt-f)" : s.pause ? "fill-(--band-2)" : "fill-(--band)"
                      }
                      x={scale.x(s.from)}
                      y="6"
                      width={Math.max(2, scale.x(s.to) - scale.x(s.from))}
                      height="10"
                    />
                  )}
                </svg>
              </td>
              <td className="num">
                {Number.isNaN(s.from) ? (
                  <span className="c-3">{s.state}</span>
                ) : s.state === "running" ? (
                  <b className="c-seed">running</b>
                ) : (
                  span(s.to - s.from)
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

// Crossing draws who was and who is primary as strokes that cross.
function Crossing({ op }: { op: Op }) {
  const { primary, candidate } = op.plan;
  if (!candidate || candidate === primary) return null;
  const done = op.outcome === "finished" || op.outcome === "needs you";
  return (
    <section>
      <h2 className="h">{done ? "Before and after" : "Now and then"}</h2>
      <svg
        className="cr"
        width="380"
        height="96"
        role="img"
        aria-label={`${primary} was primary, ${candidate} is primary afterwards`}
      >
        <path className="s rep" d="M80 68H150L230 28H300" />
        <path className="s gap" d="M150 28L230 68" />
        <path className="s pri" d="M80 28H150L230 68H300" />
        <text className="nm e" x="70" y="32">
          {primary}
        </text>
        <text className="nm e" x="70" y="72">
          {candidate}
        </text>
        <text className="nm" x="310" y="32">
          {candidate}
        </text>
        <text className="nm" x="310" y="72">
          {primary}
        </text>
        <text className="m" x="190" y="90">
          {op.pause_seconds > 0 ? span(op.pause_seconds) : ""}
        </text>
      </svg>
      <p className="note">upper: takes writes; lower: replica, or left stopped</p>
    </section>
  );
}

export function Operation() {
  const { id = "" } = useParams();
  const number = Number(id);
  const op = useQuery({
    queryKey: ["operation", number],
    queryFn: () => take(api.GET("/api/v1/operations/{id}", { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data && q.state.data.state === "ended" ? false : 1000),
  });
  const cancel = useMutation({
    mutationFn: () => take(api.POST("/api/v1/operations/{id}/cancel", { params: { path: { id } } })),
  });
  if (op.isPending) return <Waiting what="Reading the journal …" />;
  if (!op.data) return <Problem error={op.error} />;
  const o = op.data;
  const running = o.state !== "ended";
  const tail = (o.facts as Record<string, { saved?: string; transactions?: Transaction[] }> | undefined)?.tail;
  const salvage = tail?.saved;
  return (
    <>
      <section className="state">
        <h1 className="say">
          {running ? (
            <>
              <b>{kinds[o.kind].noun} under way.</b> {o.plan.summary}
            </>
          ) : (
            <>
              <b className={o.outcome === "finished" ? "" : "c-halt"}>
                {kinds[o.kind].noun}: {o.outcome}.
              </b>{" "}
              {o.message}
            </>
          )}
        </h1>
        <div className="btns">
          <Link className="btn go" to={`/clusters/${o.cluster}`}>
            Open {o.cluster}
          </Link>
          {running && (
            <May do="operate">
              <button className="btn risk" disabled={cancel.isPending || o.cancelled} onClick={() => cancel.mutate()}>
                Give up
              </button>
            </May>
          )}
          {salvage && (
            <May do="read-data">
              <a
                className="btn"
                href={`/api/v1/clusters/${o.cluster}/servers/${o.plan.target}/salvage/${salvage.split("/").at(-1)}`}
                download
              >
                Download the salvage
              </a>
            </May>
          )}
          <a className="btn" href={`/api/v1/operations/${id}`} download={`operation-${id}.json`}>
            Save this record
          </a>
        </div>
        <Facts
          list={[
            ["began", when(o.created_at)],
            ["took", o.ended_at ? span((Date.parse(o.ended_at) - Date.parse(o.created_at)) / 1000) : "under way"],
            ["asked for by", o.asked_by],
            ["term", o.term],
          ]}
        />
      </section>
      <Problem error={cancel.error} />
      {o.plan.decided && (
        <section className="sec">
          <h2 className="h">It began by itself: {o.plan.decided.text}</h2>
          <Course moments={o.moments ?? []} />
          <table className="tb">
            <thead>
              <tr>
                <th scope="col">when</th>
                <th scope="col">who looked</th>
                <th scope="col">at</th>
                <th scope="col">what was seen</th>
                <th scope="col" className="num">
                  holds up to
                </th>
              </tr>
            </thead>
            <tbody>
              {o.plan.decided.evidence.map((e, i) => (
                <tr key={i}>
                  <td>{when(e.at)}</td>
                  <td>{e.by}</td>
                  <td>{e.of}</td>
                  <td>{e.text}</td>
                  <td className="num">{e.position ?? ""}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      <div className="opg">
        <section>
          <h2 className="vh">Steps</h2>
          <Waterfall op={o} />
        </section>
        <div>
          <Crossing op={o} />
          <section>
            <h2 className="h">Journal</h2>
            <ol className="ops max-h-90 overflow-auto">
              {(o.journal ?? []).map((e) => (
                <li key={e.id}>
                  <span />
                  <span className={e.level === "warn" || e.level === "error" ? "c-halt" : ""}>{e.text}</span>
                  <span className="note nw">
                    +{((Date.parse(e.at) - Date.parse(o.created_at)) / 1000).toFixed(3)} s
                  </span>
                </li>
              ))}
            </ol>
          </section>
        </div>
      </div>
      {tail?.transactions && tail.transactions.length > 0 && (
        <TailTable transactions={tail.transactions} server={o.plan.target ?? ""} saved={salvage} />
      )}
    </>
  );
}
