/** A file of records in three formats, as the service writes it. */
export function Download({
  path,
  query = {},
  name,
}: {
  path: string;
  query?: Record<string, string | undefined>;
  name: string;
}) {
  const q = (format: string) =>
    new URLSearchParams({
      ...Object.fromEntries(Object.entries(query).filter((e): e is [string, string] => !!e[1])),
      format,
    });
  return (
    <span className="text-[13px]">
      <span className="text-ink2">{name} as </span>
      {(["csv", "ndjson", "parquet"] as const).map((f) => (
        <a
          key={f}
          className="mr-3 underline decoration-pewter-line underline-offset-3"
          href={`/api/v1${path}?${q(f)}`}
          download
        >
          {{ csv: "CSV", ndjson: "NDJSON", parquet: "Parquet" }[f]}
        </a>
      ))}
    </span>
  );
}
