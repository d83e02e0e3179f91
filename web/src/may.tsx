import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { api, take, type Session } from "./api/client";

export type Scope = Session["may"][number];

// useSession is who is logged in; null for nobody.
export function useSession() {
  return useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      const s = await take(api.GET("/api/v1/session"));
      return s.name === "" ? null : s;
    },
    retry: false,
    staleTime: Infinity,
  });
}

// useMay tells what the token of this session is good for: what it is not good for is
// not offered.
export function useMay(): (scope: Scope) => boolean {
  const session = useSession();
  return (scope) => session.data?.may.includes(scope) ?? false;
}

// May shows its children to whoever may do what they lead to.
export function May({ do: scope, children }: { do: Scope; children: ReactNode }) {
  return useMay()(scope) ? <>{children}</> : null;
}
