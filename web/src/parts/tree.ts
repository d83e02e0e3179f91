// Who follows whom, as rows of a drawing. Pure: no drawing here.
export type Linked = { name: string; follows?: string; role: string };
export type Place<S> = { server: S; depth: number; row: number; parent: number }; // parent is a row, -1: none

// tree puts servers in rows, each below the one that it follows: the primary
// first, then its replicas, a cascade under its own upstream. A server that
// follows no member (or a loop) comes last, without a parent.
export function tree<S extends Linked>(servers: readonly S[], primary: string): Place<S>[] {
  const out: Place<S>[] = [];
  const placed = new Set<string>();
  const put = (s: S, depth: number, parent: number) => {
    if (placed.has(s.name)) return;
    placed.add(s.name);
    const row = out.length;
    out.push({ server: s, depth, row, parent });
    for (const x of servers) if (x.follows === s.name && x.name !== primary) put(x, depth + 1, row);
  };
  for (const s of servers) if (s.name === primary) put(s, 0, -1);
  for (const s of servers) if (!servers.some((x) => x.name === s.follows)) put(s, 0, -1);
  for (const s of servers) put(s, 0, -1);
  return out;
}
