// One stream of events keeps every page current. Nothing is ever reloaded by
// hand: the stream comes back by itself, and while it is gone every page says
// so. What came is kept in a store outside React; a page subscribes to the one
// cluster that it shows, so a tick of another one does not draw it anew.
import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState, useSyncExternalStore, type ReactNode } from "react";
import { api, take, type View } from "./api/client";
import { fresh, withViews, without, type State } from "./live-state";

type Connection = { loaded: boolean; lost: boolean; seenAt: number };

const patience = 4000; // ms without a word until the connection counts as lost
// Hundreds of clusters report each second, each at a moment of its own: what comes within so
// many ms is put on the screen at once. A few are shown as they come.
const together = (clusters: number) => (clusters > 20 ? 200 : 0);

let state: State<View> = fresh([]);
let connection: Connection = { loaded: false, lost: false, seenAt: 0 };
const listeners = new Set<() => void>();

function subscribe(f: () => void) {
  listeners.add(f);
  return () => void listeners.delete(f);
}

// renewed is how old, in ms, the time of the last word may be on the screen.
const renewed = 500;

function put(next: State<View>, c: Partial<Connection>) {
  state = next;
  const now = { ...connection, ...c };
  const same = now.loaded === connection.loaded && now.lost === connection.lost;
  if (!same || now.seenAt - connection.seenAt > renewed) connection = now;
  listeners.forEach((f) => f());
}

// useView returns one cluster, and draws anew only when that one has changed.
export const useView = (name: string | undefined) =>
  useSyncExternalStore(subscribe, () => state.byName.get(name ?? ""));
// useViews returns all clusters.
export const useViews = () => useSyncExternalStore(subscribe, () => state.views);
export const useConnection = () => useSyncExternalStore(subscribe, () => connection);
export const useLoaded = () => useSyncExternalStore(subscribe, () => connection.loaded);

// listen opens the stream and keeps it open; the returned function closes it.
function listen(client: QueryClient): () => void {
  let stream: EventSource | undefined;
  let last = Date.now();
  const pending = new Map<string, View>();
  let timer = 0;
  const flush = () => {
    timer = 0;
    const came = new Map(pending);
    pending.clear();
    put(withViews(state, came), { loaded: true, lost: false, seenAt: Date.now() });
  };
  const load = async () => {
    try {
      const { clusters } = await take(api.GET("/api/v1/clusters"));
      last = Date.now();
      put(fresh(clusters), { loaded: true, lost: false, seenAt: last });
    } catch {
      put(state, { lost: true });
    }
  };
  const handlers: Record<
    "hello" | "reset" | "cluster" | "removed" | "operation" | "alert",
    (e: MessageEvent) => void
  > = {
    hello: () => void load(),
    reset: () => {
      void load();
      void client.invalidateQueries();
    },
    cluster: (e) => {
      last = Date.now();
      const v = JSON.parse(e.data) as View;
      pending.set(v.cluster, v);
      timer ||= window.setTimeout(flush, together(state.views.length));
    },
    removed: (e) => {
      const { cluster } = JSON.parse(e.data) as { cluster: string };
      pending.delete(cluster);
      put(without(state, cluster), {});
    },
    operation: (e) => {
      last = Date.now();
      const { id } = JSON.parse(e.data) as { id: number };
      void client.invalidateQueries({ queryKey: ["operation", id] });
      void client.invalidateQueries({ queryKey: ["operations"] });
    },
    alert: () => void client.invalidateQueries({ queryKey: ["alerts"] }),
  };
  const open = () => {
    stream?.close();
    stream = new EventSource("/api/v1/events");
    for (const [kind, f] of Object.entries(handlers)) stream.addEventListener(kind, f);
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
    if (quiet && !connection.lost && connection.loaded) put(state, { lost: true });
    if (stream?.readyState === EventSource.CLOSED || (quiet && Date.now() - last > 2 * patience)) {
      void load().then(open);
    }
  }, 1000);
  return () => {
    clearInterval(watch);
    removeEventListener("pagehide", hide);
    removeEventListener("pageshow", show);
    clearTimeout(timer);
    stream?.close();
  };
}

export function LiveProvider({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  useEffect(() => listen(client), [client]);
  return children;
}

// useNow gives the time, each half second.
export function useNow(): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), 500);
    return () => clearInterval(t);
  }, []);
  return now;
}
