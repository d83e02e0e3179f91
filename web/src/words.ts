// The same words as the service's own: sizes in units of 1024 bytes, times the
// way a person says them.
export function size(bytes: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let f = bytes;
  let i = 0;
  while (f >= 1024 && i < units.length - 1) {
    f /= 1024;
    i++;
  }
  return i === 0 ? `${bytes} B` : `${f.toFixed(1)} ${units[i]}`;
}

export function span(seconds: number): string {
  if (seconds < 0) return "never";
  if (seconds === 0) return "0 s";
  if (seconds < 1) return `${Math.floor(seconds * 1000)} ms`;
  if (seconds < 59.95) return `${seconds.toFixed(1)} s`;
  const whole = Math.round(seconds);
  if (whole < 3600) return `${Math.floor(whole / 60)} min ${whole % 60} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 1440) return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
  return `${(seconds / 86400).toFixed(1)} days`;
}

export type Zone = "utc" | "local";
export const zone = (): Zone => (localStorage.getItem("zone") === "local" ? "local" : "utc");

// formats are kept: to make one takes longer than a frame has time for.
const formats = new Map<string, Intl.DateTimeFormat>();

function format(at: Date, options: Intl.DateTimeFormatOptions): string {
  const key = zone() + JSON.stringify(options);
  let f = formats.get(key);
  if (!f) {
    f = new Intl.DateTimeFormat("en-GB", { ...options, timeZone: zone() === "utc" ? "UTC" : undefined });
    formats.set(key, f);
  }
  return f.format(at);
}

export const clock = (at: Date) => format(at, { hour: "2-digit", minute: "2-digit", second: "2-digit" });
export const day = (at: Date) => format(at, { weekday: "short", day: "numeric", month: "short" });
export const zoneName = () =>
  zone() === "utc" ? "UTC" : format(new Date(), { timeZoneName: "short" }).replace(/.*, /, "");

export function when(text: string | null | undefined): string {
  if (!text) return "–";
  const at = new Date(text);
  const today = day(at) === day(new Date());
  return `${clock(at)} ${today ? "today" : format(at, { day: "numeric", month: "short", year: "numeric" })}`;
}

export const rank = (n: number) => (n === 0 ? "never" : String(n));
export const engineName = (engine: string) => (engine === "mariadb" ? "MariaDB" : "PostgreSQL");

// behind says how far a replica is behind, in time.
export function behind(lag: { seconds: number; at_least: boolean; known: boolean }): string {
  if (!lag.known) return "–";
  if (lag.seconds === 0) return "0 s";
  return (lag.at_least ? "at least " : "") + span(lag.seconds);
}

export const dayClock = (at: Date) =>
  format(at, { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

// changed says what a transaction did to a table.
export function changed(c: { inserts: number; updates: number; deletes: number }): string {
  return [
    c.inserts && `${c.inserts} inserted`,
    c.updates && `${c.updates} updated`,
    c.deletes && `${c.deletes} deleted`,
  ]
    .filter(Boolean)
    .join(", ");
}

// said puts a health behind a number of things: "takes no writes", "are behind".
export function said(health: string, n = 1): string {
  if (health === "takes writes" || health === "takes no writes")
    return n === 1 ? health : health.replace("takes", "take");
  return `${n === 1 ? "is" : "are"} ${health}`;
}

// known gives a size, or says that it is not known.
export const known = (bytes: number | null | undefined) =>
  bytes === null || bytes === undefined ? "not known" : size(bytes);
