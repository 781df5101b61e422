import { Link } from "react-router";

/** LeftOut says which visits a report does not count, each with a link to them; nothing where it counts all. */
export function LeftOut({ of, query = "" }: { of: Record<string, number>; query?: string }) {
  const marks = Object.entries(of).filter(([, n]) => n > 0);
  if (marks.length === 0) return null;
  return (
    <span className="left-out">
      Not counted:{" "}
      {marks.map(([mark, n], i) => (
        <span key={mark}>
          {i > 0 && ", "}
          <Link className="numlink" to={`/visits?mark=${mark}${query}`}>
            {n.toLocaleString("en")} marked {mark}
          </Link>
        </span>
      ))}
      .
    </span>
  );
}
