// One stream of events keeps every page current. Nothing is ever reloaded by
// hand: the stream comes back by itself, and while it is gone every page says so.
import { useQueryClient } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import { api, take, type View } from "./api/client";

type Live = { views: View[]; loaded: boolean; lost: boolean; seenAt: number; forget: (cluster: string) => void };

const patience = 4000; // ms without a word until the connection counts as lost

const Context = createContext<Live>({ views: [], loaded: false, lost: false, seenAt: 0, forget: () => {} });
export const useLive = () => useContext(Context);
export const useView = (name: string | undefined) => useLive().views.find((v) => v.cluster === name);

export function LiveProvider({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  const [state, setState] = useState<Omit<Live, "forget">>({ views: [], loaded: false, lost: false, seenAt: 0 });
  useEffect(() => {
    let stream: EventSource | undefined;
    let last = Date.now();
    const pending = new Map<string, View>();
    let frame = 0;
    // Many clusters report each second: they are put on the screen together.
    const flush = () => {
      frame = 0;
      const fresh = new Map(pending);
      pending.clear();
      setState((s) => {
        const views = s.views.map((v) => fresh.get(v.cluster) ?? v);
        for (const [name, v] of fresh) if (!s.views.some((x) => x.cluster === name)) views.push(v);
        return { views, loaded: true, lost: false, seenAt: Date.now() };
      });
    };
    const load = async () => {
      try {
        const { clusters } = await take(api.GET("/api/v1/clusters"));
        last = Date.now();
        setState({ views: clusters, loaded: true, lost: false, seenAt: last });
      } catch {
        setState((s) => ({ ...s, lost: true }));
      }
    };
    const open = () => {
      stream?.close();
      stream = new EventSource("/api/v1/events");
      stream.addEventListener("hello", () => void load());
      stream.addEventListener("reset", () => {
        void load();
        void client.invalidateQueries();
      });
      stream.addEventListener("cluster", (e) => {
        last = Date.now();
        const v = JSON.parse(e.data) as View;
        pending.set(v.cluster, v);
        frame ||= requestAnimationFrame(flush);
      });
      stream.addEventListener("operation", (e) => {
        last = Date.now();
        const { id } = JSON.parse(e.data) as { id: number };
        void client.invalidateQueries({ queryKey: ["operation", id] });
        void client.invalidateQueries({ queryKey: ["operations"] });
      });
      stream.addEventListener("alert", () => void client.invalidateQueries({ queryKey: ["alerts"] }));
    };
    open();
    // A page that is left and kept by the browser must not hold its connection:
    // there are only a few for one service.
    const hide = () => stream?.close();
    const show = (e: PageTransitionEvent) => e.persisted && open();
    addEventListener("pagehide", hide);
    addEventListener("pageshow", show);
    const watch = setInterval(() => {
      const quiet = Date.now() - last > patience;
      if (quiet) setState((s) => (s.lost || s.views.length === 0 ? s : { ...s, lost: true }));
      if (stream?.readyState === EventSource.CLOSED || (quiet && Date.now() - last > 2 * patience)) {
        void load().then(open);
      }
    }, 1000);
    return () => {
      clearInterval(watch);
      removeEventListener("pagehide", hide);
      removeEventListener("pageshow", show);
      cancelAnimationFrame(frame);
      stream?.close();
    };
  }, [client]);
  // forget drops a cluster that was removed: no event tells of what is not there.
  const forget = (cluster: string) => setState((s) => ({ ...s, views: s.views.filter((v) => v.cluster !== cluster) }));
  return <Context.Provider value={{ ...state, forget }}>{children}</Context.Provider>;
}

// useNow gives the time, each second.
export function useNow(): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), 500);
    return () => clearInterval(t);
  }, []);
  return now;
}
