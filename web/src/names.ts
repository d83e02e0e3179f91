// What the API's enumerated values are called on a page. The records are
// exhaustive: a value that the service gains does not compile until it is named.
import type { components } from "./api/schema";

export type Kind = components["schemas"]["OperationRequest"]["kind"];

// title is for a dialog and a button, noun for a list.
export const kinds: Record<Kind, { title: string; noun: string; glyph: string }> = {
  seed: { title: "Seed", noun: "Seed", glyph: "seeding" },
  switchover: { title: "Switch over", noun: "Switchover", glyph: "role" },
  failover: { title: "Fail over", noun: "Failover", glyph: "role" },
  rejoin: { title: "Rejoin", noun: "Rejoin", glyph: "role" },
  compare: { title: "Compare the data of", noun: "Comparison", glyph: "in step" },
  salvage: { title: "Save the tail of", noun: "Salvage", glyph: "role" },
  trim: { title: "Trim the log of", noun: "Trim", glyph: "role" },
  set: { title: "Change a setting of", noun: "Setting", glyph: "role" },
  follow: { title: "Change what is followed by", noun: "Follow", glyph: "role" },
  restart: { title: "Restart", noun: "Restart", glyph: "role" },
  adopt: { title: "Take over what runs in", noun: "Adoption", glyph: "role" },
  synchronize: { title: "Set whom commits wait for in", noun: "Synchronous mode", glyph: "role" },
  encrypt: { title: "Encrypt the replication of", noun: "Encryption", glyph: "role" },
};

export type Rule = components["schemas"]["ViewProblem"]["rule"];

// What is alerted on, worst first, in words for a list of switches.
export const rules: Record<Rule, string> = {
  "two primaries": "two servers report themselves as primary",
  "false claim": "an agent claims a term that nobody decided",
  refused: "somebody asked for what they may not",
  "no primary": "no primary",
  "takes no writes": "the primary takes no writes",
  "acknowledged alone": "a commit was acknowledged without a replica, against the synchronous mode",
  synchronous: "commits do not wait as the synchronous mode says",
  "no failover": "no failover begins by itself, and why",
  "needs you": "an operation needs you",
  adrift: "a server is adrift",
  "log filling": "the log fills the disk",
  "link down": "a link is down",
  stalled: "a replica is stalled",
  unseen: "a server is unseen",
  down: "a server is stopped or fenced",
  "at risk": "writes are at risk",
  "slot filling": "a slot keeps log",
  behind: "a replica is behind",
  conflicts: "queries are cancelled",
  clock: "a clock is off",
  certificate: "a certificate ends soon",
  "agent version": "an agent is too old or too new for the service",
  "open by default": "a server would open for writes by itself",
};
export const ruleNames = Object.keys(rules) as Rule[];

export type Proof = NonNullable<components["schemas"]["ObservationEncryption"]["state"]>;

// How a server takes connections.
export const taken: Record<Proof, string> = {
  verified: "encrypted, by a certificate of the service",
  unverified: "encrypted, by a certificate of its own",
  off: "not encrypted",
  "": "–",
};

// What a replica asks of its upstream.
export const insisted: Record<Proof, string> = {
  verified: "encrypted and proven",
  unverified: "encrypted",
  off: "encryption not insisted on",
  "": "–",
};
