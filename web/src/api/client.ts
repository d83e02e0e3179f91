import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

export type View = components["schemas"]["ViewView"];
export type Server = components["schemas"]["ViewServer"];
export type Plan = components["schemas"]["ApitypePlan"];
export type Check = components["schemas"]["OperationCheck"];
export type Operation = components["schemas"]["OperationOperation"];
export type Problem = components["schemas"]["ApitypeProblem"];
export type Request = components["schemas"]["ApitypeNewOperation"];
export type Session = components["schemas"]["ApitypeSession"];
export type Leaving = components["schemas"]["ApitypeLeaving"];
export type Health = View["health"];

// Refusal is an answer that says no, with the service's own words.
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

export class Unreachable extends Error {
  constructor() {
    super(
      "The service does not answer. What you see may be old. " +
        "It is tried again by itself; on its host: systemctl status crosstwin",
    );
  }
}

const ends = new Set<() => void>();
// onSessionEnd is told when the service does not know the session any more.
export function onSessionEnd(f: () => void) {
  ends.add(f);
  return () => void ends.delete(f);
}

const guard: Middleware = {
  onRequest({ request }) {
    // Shows the service that its own page asks (see its session rules).
    request.headers.set("X-Crosstwin-Page", "1");
    return request;
  },
  onResponse({ request, response }) {
    if (response.status === 401 && !request.url.endsWith("/api/v1/session")) ends.forEach((f) => f());
    return response;
  },
  onError() {
    return new Unreachable();
  },
};

export const api = createClient<paths>({ baseUrl: "/" });
api.use(guard);

// take gives the data of an answer, or throws what the service said.
export async function take<T>(answer: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  const { data, error } = await answer;
  if (error) throw new Refusal(error as Problem);
  return data as T;
}
