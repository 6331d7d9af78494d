import { useCharacter } from "../api/studies";
import { Trouble } from "./Page";

/** What a series is like, in words. */
export function Like({ series }: { series: number }) {
  const like = useCharacter(series);
  if (!like.data) return <Trouble what="What the series is like" error={like.error} />;
  return (
    <p data-like className="mt-2 max-w-[100ch]">
      {like.data.sentences.join(" ")}{" "}
      <span className="text-ink2">
        Of its last {like.data.days} days, without planned stretches and known faults.
      </span>
    </p>
  );
}
