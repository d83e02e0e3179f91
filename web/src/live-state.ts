// What the stream of events makes of the clusters on the screen. Pure: no time,
// no network, so that it can be tested by itself.

export type Named = { cluster: string };
export type State<V extends Named> = { views: readonly V[]; byName: ReadonlyMap<string, V> };

export function fresh<V extends Named>(views: readonly V[]): State<V> {
  return { views, byName: new Map(views.map((v) => [v.cluster, v])) };
}

// withViews takes in views that came since: known clusters keep their place, new
// ones come last, and what did not change keeps its identity.
export function withViews<V extends Named>(s: State<V>, came: ReadonlyMap<string, V>): State<V> {
  if (came.size === 0) return s;
  const views = s.views.map((v) => came.get(v.cluster) ?? v);
  for (const [name, v] of came) if (!s.byName.has(name)) views.push(v);
  return fresh(views);
}

// without drops a cluster that was removed.
export function without<V extends Named>(s: State<V>, cluster: string): State<V> {
  return s.byName.has(cluster) ? fresh(s.views.filter((v) => v.cluster !== cluster)) : s;
}
