import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, take } from "../api/client";
import { Problem } from "../parts/bits";

// Login takes a token, or by itself the code of a one-time address.
export function Login({ done }: { done: () => void }) {
  const [token, setToken] = useState("");
  const enter = useMutation({
    mutationFn: (body: { token?: string; code?: string }) => take(api.POST("/api/v1/session", { body })),
    onSuccess: () => {
      if (location.pathname === "/enter") history.replaceState(null, "", "/");
      done();
    },
  });
  const tried = useRef(false);
  useEffect(() => {
    const code = location.pathname === "/enter" ? location.hash.slice(1) : "";
    if (!code || tried.current) return;
    tried.current = true; // it opens the console once
    enter.mutate({ code });
  }, [enter]);
  return (
    <main className="page">
      <section className="state">
        <h1 className="say">
          <b>Log in to Cross Twin.</b> With an access token of this service.
        </h1>
      </section>
      <form
        className="grid max-w-[520px] gap-2 [&_label]:grid [&_label]:gap-0.5"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate({ token });
        }}
      >
        <label>
          Access token
          <input
            className="field"
            type="password"
            autoComplete="current-password"
            autoFocus
            value={token}
            onChange={(e) => setToken(e.target.value)}
          />
        </label>
        <div className="btns">
          <button className="btn go" disabled={token === "" || enter.isPending}>
            Log in
          </button>
        </div>
        <Problem error={enter.error} />
        <p className="note">
          The first token stands in the service’s directory, in the file first-token, until it is in use. More are made
          with <span className="mono">crosstwin token add NAME</span>. A session lasts twelve hours, and ends with its
          token.
        </p>
      </form>
    </main>
  );
}
