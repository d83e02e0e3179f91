import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { useMay } from "../may";
import { useLoaded, useView } from "../live";
import { Waiting } from "../parts/bits";
import { Policy as Form } from "../parts/policy";
import { RemoveDialog } from "../parts/remove-dialog";

// Policy is the page on which a cluster's limits, ranks and places are set. The dialog
// that removes the cluster stands beside the page, since it tells what stays when the
// cluster is gone.
export function Policy() {
  const { name = "" } = useParams();
  const [removing, setRemoving] = useState<{ referee?: string }>();
  const navigate = useNavigate();
  return (
    <>
      <Page name={name} remove={(referee) => setRemoving({ referee })} />
      {removing && (
        <RemoveDialog
          cluster={name}
          server={removing.referee}
          referee={!!removing.referee}
          close={() => setRemoving(undefined)}
          gone={() => (removing.referee ? setRemoving(undefined) : navigate("/"))}
        />
      )}
    </>
  );
}

function Page({ name, remove }: { name: string; remove: (referee?: string) => void }) {
  const view = useView(name);
  const may = useMay();
  const loaded = useLoaded();
  if (!view)
    return loaded ? <p className="say">There is no cluster “{name}”.</p> : <Waiting what="Asking the service …" />;
  return (
    <>
      <section className="fl-head">
        <h1 className="say">
          <b>Policy and ranks of {name}</b>
        </h1>
      </section>
      {may("admin") ? (
        <Form key={name} v={view} remove={remove} />
      ) : (
        <p>This session’s token is not good for changing them.</p>
      )}
    </>
  );
}
