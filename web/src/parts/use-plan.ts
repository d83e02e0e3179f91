import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, Refusal, take, type Plan, type Request } from "../api/client";

// usePlan has the plan for a request made, and begins the operation whose plan
// was shown. When the plan has changed by then, nothing has happened: the new
// plan is shown with what differs, and has to be asked for again.
export function usePlan(cluster: string, ask: Request) {
  const navigate = useNavigate();
  const [newer, setNewer] = useState<{ of: string; plan: Plan; changes: string[] }>();
  const key = JSON.stringify(ask);
  const query = useQuery({
    queryKey: ["plan", cluster, ask],
    queryFn: async () => {
      setNewer(undefined);
      return take(api.POST("/api/v1/clusters/{cluster}/plan", { params: { path: { cluster } }, body: ask }));
    },
    retry: false,
    gcTime: 0,
    refetchOnWindowFocus: false,
    placeholderData: (old) => old,
  });
  const changed = newer?.of === key ? newer : undefined;
  const plan = changed?.plan ?? query.data;
  const begin = useMutation({
    mutationFn: (typed: string) =>
      take(
        api.POST("/api/v1/clusters/{cluster}/operations", {
          params: { path: { cluster } },
          body: { ...ask, confirm_name: typed || undefined, plan: plan?.digest },
        }),
      ),
    onSuccess: (op) => navigate(`/operations/${op.id}`),
    onError: (e) => {
      if (e instanceof Refusal && e.problem.code === "plan-changed" && e.problem.plan && plan) {
        setNewer({ of: key, plan: e.problem.plan, changes: changes(plan, e.problem.plan) });
      }
    },
  });
  return { query, plan, begin, changes: changed?.changes ?? [] };
}

// changes names what differs between a plan that was shown and the one made
// since, in the order in which a reader would look.
export function changes(shown: Plan, now: Plan): string[] {
  const out: string[] = [];
  if (shown.primary !== now.primary) out.push(`the primary is ${now.primary}; it was ${shown.primary}`);
  if (shown.candidate !== now.candidate)
    out.push(`the candidate is ${now.candidate ?? "none"}; it was ${shown.candidate ?? "none"}`);
  for (const c of now.checks) {
    const before = shown.checks.find((x) => x.name === c.name && x.server === c.server);
    if (c.result !== "pass" && before?.result !== c.result)
      out.push(`check “${c.name}” is now ${c.result}: ${c.evidence}`);
  }
  const titles = (p: Plan) => p.steps.map((s) => s.title);
  out.push(
    ...titles(now)
      .filter((t) => !titles(shown).includes(t))
      .map((t) => `new step: ${t}`),
  );
  out.push(
    ...titles(shown)
      .filter((t) => !titles(now).includes(t))
      .map((t) => `no longer a step: ${t}`),
  );
  if (now.destroys && now.destroys !== shown.destroys) out.push(`it discards ${now.destroys}`);
  return out.length > 0 ? out : [`the plan is for term ${now.term}; it was for term ${shown.term}`];
}
