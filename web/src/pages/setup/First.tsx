import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { useChart, useDataset, useNow } from "../../api/queries";
import { useTasks } from "../../api/setup";
import { useWidth } from "../../chart/width";
import { SmallChart } from "../../chart/Small";
import { Section } from "../../parts/Page";
import { Proposed } from "./Proposed";
import { keyOf } from "../../api/keys";

/** Progress, then the first chart. */
export function First({ table, task }: { table: string; task: number }) {
  const work = useTasks().data?.find((t) => t.id === task);
  const page = useDataset(table);
  const [box, width] = useWidth<HTMLDivElement>();
  const now = useNow();
  const first = page.data?.metrics?.find((m) => m.series.length > 0);
  const end = Math.ceil(now / 3_600_000) * 3_600_000;
  const done = work?.state === "done";
  const queries = useQueryClient();
  useEffect(() => {
    if (done) queries.invalidateQueries({ queryKey: keyOf("datasets", table) }); // it has series now
  }, [done, queries, table]);
  const chart = useChart(
    done ? first?.series![0].id : undefined,
    new Date(end - 14 * 86_400_000),
    new Date(end),
  );
  return (
    <Section
      className="mt-5"
      title="Its past"
      note={done ? "is measured" : work?.state === "failed" ? "could not be measured" : "is being measured"}
      right={<Link to={`/datasets/${table}`}>the dataset's page</Link>}
    >
      {work?.state === "failed" && (
        <p role="alert" className="mt-2 text-verm">
          {work.message}
        </p>
      )}
      {!done && work && (
        <p className="mt-2 text-ink2">
          {work.done} of {work.total} weeks
        </p>
      )}
      <div ref={box} className="mt-2" data-first-chart={chart.data ? "" : undefined}>
        {chart.data && <SmallChart chart={chart.data} now={now} width={width} height={150} />}
      </div>
      {done && page.data && <Proposed page={page.data} />}
    </Section>
  );
}
