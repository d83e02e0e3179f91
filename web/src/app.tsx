import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, type ReactNode } from "react";
import { Link, Route, Routes, useLocation } from "react-router";
import { api, onSessionEnd, take } from "./api/client";
import { LiveProvider, useConnection, useNow } from "./live";
import { Problem, Waiting } from "./parts/bits";
import { Alerts } from "./pages/alerts";
import { Audit } from "./pages/audit";
import { Check } from "./pages/check";
import { Cluster } from "./pages/cluster";
import { Fleet } from "./pages/fleet";
import { Log } from "./pages/log";
import { Login } from "./pages/login";
import { Operation } from "./pages/operation";
import { Operations } from "./pages/operations";
import { Policy } from "./pages/policy";
import { Rejoin } from "./pages/rejoin";
import { Server } from "./pages/server";
import { useMay, useSession } from "./may";
import { Settings } from "./pages/settings";
import { Setup } from "./pages/setup";
import { Tuning } from "./pages/tuning";
import { clock, day, span, zoneName } from "./words";

function Mark() {
  return (
    <svg className="mark" width="29" height="17.7" viewBox="0 0 36 22" aria-hidden="true">
      <path className="b" d="M1 0L16.2 7.6L11.2 10.1L1 5ZM35 22L19.8 14.4L24.8 11.9L35 17Z" />
      <path className="a" d="M1 17L35 0V5L1 22Z" />
    </svg>
  );
}

function Clock() {
  const now = useNow();
  const { lost, seenAt, loaded } = useConnection();
  const at = new Date(now);
  const age = Math.max(0, (now - seenAt) / 1000);
  return (
    <p className="clock">
      {day(at)} <b>{clock(at)}</b> {zoneName()}
      <br />
      {lost ? (
        <span className="font-bold text-halt" role="alert">
          connection lost: {loaded && seenAt > 0 ? `data is ${span(age)} old` : "no data yet"}
        </span>
      ) : (
        `data is ${age < 1.5 ? "current" : span(age) + " old"}`
      )}
    </p>
  );
}

const main = [
  ["/", "Fleet"],
  ["/alerts", "Alerts"],
  ["/operations", "Operations"],
  ["/audit", "Audit trail"],
  ["/settings", "Settings"],
] as const;

function Frame({ children }: { children: ReactNode }) {
  const may = useMay();
  const alerts = useQuery({
    queryKey: ["alerts", "open"],
    queryFn: () => take(api.GET("/api/v1/alerts", { params: { query: { open: "true", limit: "1000" } } })),
  });
  const open = alerts.data?.alerts.length ?? 0;
  const { pathname } = useLocation();
  const parts = pathname.split("/").filter(Boolean);
  const trail = parts[0] === "clusters" ? parts.slice(1) : parts;
  const here = (to: string) =>
    to === "/"
      ? pathname === "/" || pathname.startsWith("/clusters") || pathname === "/setup"
      : pathname.startsWith(to);
  return (
    <>
      <a className="vh" href="#main">
        Skip to the page
      </a>
      <header className="top">
        <Link className="brand" to="/">
          <Mark />
          Cross Twin
        </Link>
        <nav className="trail" aria-label="Where you are">
          {trail.map((p, i) => (
            <span key={i}>
              {i > 0 && <i aria-hidden="true">/ </i>}
              {parts[0] === "clusters" && i < trail.length - 1 ? (
                <Link to={`/clusters/${trail.slice(0, i + 1).join("/")}`}>{p}</Link>
              ) : (
                <b>{parts[0] === "operations" && i === 1 ? `operation ${p}` : p}</b>
              )}
            </span>
          ))}
        </nav>
        <nav className="nav" aria-label="Main">
          {main.map(([to, name]) =>
            to === "/audit" && !may("admin") ? null : (
              <Link key={to} to={to} aria-current={here(to) ? "page" : undefined}>
                {name}
                {to === "/alerts" && open > 0 && <b className="c-halt open">{open}</b>}
              </Link>
            ),
          )}
        </nav>
        <Clock />
      </header>
      <main className="page" id="main">
        {children}
      </main>
    </>
  );
}

export function App() {
  const client = useQueryClient();
  const session = useSession();
  useEffect(() => onSessionEnd(() => client.setQueryData(["session"], null)), [client]);
  if (session.isPending) return <Waiting what="One moment …" />;
  if (session.error)
    return (
      <main className="page">
        <Problem error={session.error} />
        <button className="btn" onClick={() => void session.refetch()}>
          Try again
        </button>
      </main>
    );
  if (session.data === null) return <Login done={() => void session.refetch()} />;
  return (
    <LiveProvider>
      <Frame>
        <Routes>
          <Route path="/" element={<Fleet />} />
          <Route path="/enter" element={<Fleet />} />
          <Route path="/setup" element={<Setup />} />
          <Route path="/clusters/:name" element={<Cluster />} />
          <Route path="/clusters/:name/setup" element={<Setup />} />
          <Route path="/clusters/:name/check" element={<Check />} />
          <Route path="/clusters/:name/log" element={<Log />} />
          <Route path="/clusters/:name/policy" element={<Policy />} />
          <Route path="/clusters/:name/tuning" element={<Tuning />} />
          <Route path="/clusters/:name/:server" element={<Server />} />
          <Route path="/clusters/:name/:server/rejoin" element={<Rejoin />} />
          <Route path="/alerts" element={<Alerts />} />
          <Route path="/operations" element={<Operations />} />
          <Route path="/operations/:id" element={<Operation />} />
          <Route path="/audit" element={<Audit />} />
          <Route path="/settings" element={<Settings />} />
          <Route path="*" element={<p className="say">There is no page at this address.</p>} />
        </Routes>
      </Frame>
    </LiveProvider>
  );
}
