import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { api, take, type Leaving } from "../api/client";
import { Problem, Waiting } from "./bits";

function List({ title, items }: { title: string; items: string[] }) {
  if (items.length === 0) return null;
  return (
    <>
      <h2 className="h">{title}</h2>
      <ul className="dots">
        {items.map((text) => (
          <li key={text}>{text}</li>
        ))}
      </ul>
    </>
  );
}

const texts = (l: Leaving, gone: boolean) => l.leftovers.filter((x) => x.gone === gone).map((x) => x.text);

// RemoveDialog shows what removing a cluster, or one server of it, undoes and what
// stays, asks, and says afterwards what became of it.
export function RemoveDialog({
  cluster,
  server,
  referee,
  close,
  gone,
}: {
  cluster: string;
  server?: string;
  referee?: boolean;
  close: () => void;
  gone: () => void;
}) {
  const cancel = useRef<HTMLButtonElement>(null);
  const [drop, setDrop] = useState(false);
  const what = server ?? cluster;
  const path = { cluster };
  const query = { drop: String(drop) };
  const remove = useMutation({
    mutationFn: () =>
      take(
        server
          ? api.DELETE("/api/v1/clusters/{cluster}/servers/{server}", { params: { path: { ...path, server } } })
          : api.DELETE("/api/v1/clusters/{cluster}", { params: { path, query } }),
      ),
  });
  const plan = useQuery({
    queryKey: ["leaving", cluster, server ?? "", drop],
    queryFn: () =>
      take(api.GET("/api/v1/clusters/{cluster}/leaving", { params: { path, query: { ...query, server } } })),
    placeholderData: (before) => before,
    enabled: !remove.data,
  });
  const leave = remove.data ? gone : close;
  return (
    <Dialog open onClose={leave} initialFocus={cancel}>
      <div className="scrim" aria-hidden="true" />
      <DialogPanel className="dlg">
        <header>
          <div>
            <DialogTitle as="h1" className="say">
              <b>{remove.data ? `${what} was removed from Cross Twin` : `Remove ${what} from Cross Twin`}</b>
            </DialogTitle>
            <p className="note">
              {referee
                ? "It notes no terms for this cluster any more, and counts towards no majority."
                : server
                  ? "Its database keeps running, and follows no more. Its agent no longer keeps it from taking writes."
                  : "Its databases keep running. No agent keeps them from taking writes any more."}
            </p>
          </div>
        </header>
        <div className="px-6 pb-5">
          <Problem error={plan.error ?? remove.error} />
          {plan.isPending && <Waiting what="Looking at what Cross Twin made there …" />}
          {plan.data && !remove.data && (
            <>
              <List title="To be undone" items={texts(plan.data, true)} />
              <List title="What stays" items={texts(plan.data, false)} />
              {!server && (
                <div className="mt-3">
                  <label>
                    <input type="checkbox" checked={drop} onChange={(e) => setDrop(e.target.checked)} /> also drop what
                    nothing uses
                  </label>
                </div>
              )}
            </>
          )}
          {remove.data && (
            <>
              <List title="Undone" items={texts(remove.data, true)} />
              <List title="What stays" items={texts(remove.data, false)} />
            </>
          )}
          <div className="btns mt-4">
            <button ref={cancel} className="btn" onClick={leave}>
              {remove.data ? "Close" : "Cancel"}
            </button>
            {!remove.data && (
              <button className="btn risk" disabled={!plan.data || remove.isPending} onClick={() => remove.mutate()}>
                Remove {what}
              </button>
            )}
          </div>
        </div>
      </DialogPanel>
    </Dialog>
  );
}
