// Where things stand on the ribbon. Pure functions: no drawing here.
import type { Server, View } from "../api/client";

const octaves = 20.7; // doublings of 1 kB from "now" to the left edge: about 1.7 GB

// left gives the distance from "now" for a number of bytes.
export function left(bytes: number, width: number): number {
  return Math.min(width, (Math.log2(1 + Math.max(0, bytes) / 1024) * width) / octaves);
}

export const ticks = [
  { bytes: 1024, label: "1 kB" },
  { bytes: 65536, label: "64 kB" },
  { bytes: 1 << 20, label: "1 MB" },
  { bytes: 16 << 20, label: "16 MB" },
  { bytes: 1 << 30, label: "1 GB" },
];

export type Stage = { name: "applied" | "received" | "sent" | "unsent"; from: number; to: number; bytes: number };

const least = 4; // px: a stage that exists is seen

// stages lays a replica's stages out between its applied position and "now",
// as x from the left edge; nothing is narrower than it may be.
export function stages(s: Server, width: number): Stage[] {
  const st = s.stages;
  const parts: { name: Stage["name"]; bytes: number }[] = [
    { name: "received", bytes: st.not_applied_bytes },
    { name: "sent", bytes: st.not_safe_bytes + st.not_received_bytes },
    { name: "unsent", bytes: st.not_sent_bytes },
  ];
  let bytes = parts.reduce((n, p) => n + p.bytes, 0);
  let x = width - left(bytes, width);
  const out: Stage[] = [{ name: "applied", from: 0, to: x, bytes: 0 }];
  for (const p of parts) {
    if (p.bytes <= 0) continue;
    bytes -= p.bytes;
    const to = Math.max(x + least, width - left(bytes, width));
    out.push({ name: p.name, from: x, to, bytes: p.bytes });
    x = to;
  }
  // The last one ends at "now"; what was widened pushes the first ones left.
  const over = x - width;
  if (over > 0) for (const o of out) [o.from, o.to] = [Math.max(0, o.from - over), Math.max(0, o.to - over)];
  return out;
}

// worst gives the stage at which most bytes wait.
export function worst(list: Stage[]): Stage | undefined {
  return list.filter((x) => x.name !== "applied").sort((a, b) => b.bytes - a.bytes)[0];
}

// fits tells whether a label of so many letters stands within a width.
export const fits = (label: string, width: number) => label.length * 7 + 8 < width;

// notAcknowledged gives the bytes of the newest writes for which commits still wait: what too few
// of the replicas that have to acknowledge hold on their disks. Undefined where commits wait for
// nobody.
export function notAcknowledged(v: Pick<View, "servers" | "synchronous">): number | undefined {
  const list = v.synchronous?.list;
  if (!list || list.need === 0) return undefined;
  const lacks = v.servers
    .filter((s) => list.names.includes(s.name))
    .map((s) => s.stages.not_sent_bytes + s.stages.not_received_bytes + s.stages.not_safe_bytes)
    .sort((a, b) => a - b);
  return lacks[list.need - 1];
}
