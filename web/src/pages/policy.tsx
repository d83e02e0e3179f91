import { useParams } from "react-router";
import { useMay } from "../may";
import { useLoaded, useView } from "../live";
import { Waiting } from "../parts/bits";
import { Policy as Form } from "../parts/policy";

// Policy is the page on which a cluster's limits, ranks and places are set.
export function Policy() {
  const { name = "" } = useParams();
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
      {may("admin") ? <Form key={name} v={view} /> : <p>This session’s token is not good for changing them.</p>}
    </>
  );
}
