import { Link } from "react-router";

const places = [
  ["sources", "/setup"],
  ["calendars", "/setup/calendars"],
  ["telling", "/setup/telling"],
  ["people", "/setup/people"],
  ["audit", "/setup/audit"],
  ["mailbox", "/setup/mailbox"],
] as const;

/** The parts of Setup, side by side in the place line. */
export function Places({ here }: { here: (typeof places)[number][0] }) {
  return (
    <nav aria-label="Setup" className="inline-flex gap-3">
      Setup:
      {places.map(([name, to]) =>
        name === here ? (
          <b key={name} aria-current="page" className="text-ink">
            {name}
          </b>
        ) : (
          <Link key={name} to={to}>
            {name}
          </Link>
        ),
      )}
    </nav>
  );
}
