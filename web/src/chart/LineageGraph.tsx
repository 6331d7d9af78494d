import { useNavigate } from "react-router";

const box = { width: 190, height: 40, gapX: 96, gapY: 16 };

export type GraphNode = {
  name: string;
  depth: number;
  watched: boolean;
  says: string;
  broken: boolean;
  first?: boolean;
};
export type GraphLink = { from: string; to: string; job: string };

/**
 * Datasets in columns by their distance, an arrow for each job between two. The first broken stage has a
 * flag.
 */
export function LineageGraph({
  nodes,
  links,
  here,
}: {
  nodes: GraphNode[];
  links: GraphLink[];
  here: string;
}) {
  const go = useNavigate();
  const depths = [...new Set(nodes.map((n) => n.depth))].sort((a, b) => a - b);
  const place = new Map<string, { x: number; y: number }>();
  const tallest = Math.max(...depths.map((d) => nodes.filter((n) => n.depth === d).length));
  const height = tallest * (box.height + box.gapY) - box.gapY + 16;
  for (const [i, d] of depths.entries()) {
    const column = nodes.filter((n) => n.depth === d);
    const top = (height - (column.length * (box.height + box.gapY) - box.gapY)) / 2;
    for (const [k, n] of column.entries())
      place.set(n.name, { x: i * (box.width + box.gapX) + 1, y: top + k * (box.height + box.gapY) });
  }
  const width = depths.length * (box.width + box.gapX) - box.gapX + 2;
  return (
    <div className="mt-3 overflow-x-auto">
      <svg
        width={width}
        height={height}
        role="img"
        data-lineage
        aria-label={`${here} is made from and makes ${nodes.length - 1} other datasets`}
      >
        {links.map((l) => {
          const from = place.get(l.from),
            to = place.get(l.to);
          if (!from || !to) return null;
          const x1 = from.x + box.width,
            y1 = from.y + box.height / 2,
            x2 = to.x,
            y2 = to.y + box.height / 2,
            mid = (x1 + x2) / 2;
          return (
            <g key={l.from + l.to + l.job}>
              <path
                d={`M${x1} ${y1}C${mid} ${y1} ${mid} ${y2} ${x2 - 7} ${y2}`}
                fill="none"
                stroke="var(--pewter-line)"
                strokeWidth="1.3"
              >
                <title>{l.job}</title>
              </path>
              <path d={`M${x2 - 8} ${y2 - 4}L${x2} ${y2}L${x2 - 8} ${y2 + 4}Z`} fill="var(--pewter-line)" />
            </g>
          );
        })}
        {nodes.map((n) => {
          const at = place.get(n.name)!;
          const own = n.name === here;
          return (
            <g
              key={n.name}
              transform={`translate(${at.x},${at.y})`}
              className={n.watched && !own ? "cursor-pointer" : ""}
              onClick={() => n.watched && go(`/datasets/${n.name}`)}
            >
              <rect
                width={box.width}
                height={box.height}
                fill={own ? "var(--ink)" : n.broken ? "var(--verm-wash)" : "var(--field)"}
                stroke={n.watched ? "var(--ink)" : "var(--ink3)"}
                strokeDasharray={n.watched ? undefined : "3 3"}
              />
              {n.first && (
                <path d={`M0 0H${box.width}`} stroke="var(--verm-mark)" strokeWidth="5">
                  <title>it broke here first</title>
                </path>
              )}
              <text
                x={10}
                y={18}
                className="font-mono"
                style={{ fill: own ? "var(--ground)" : "var(--ink)", fontSize: 12.5 }}
              >
                {n.name.length > 23 ? `${n.name.slice(0, 22)}…` : n.name}
              </text>
              <text
                x={10}
                y={33}
                style={{
                  fill: own ? "var(--ground)" : n.broken ? "var(--verm)" : "var(--ink3)",
                  fontSize: 11.5,
                }}
              >
                {n.says}
              </text>
            </g>
          );
        })}
      </svg>
    </div>
  );
}
