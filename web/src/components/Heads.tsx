/** Heads is the head of a table; titles that begin with > stand at the right, over figures. */
export function Heads({ of }: { of: string[] }) {
  return (
    <thead>
      <tr>
        {of.map((title) => (
          <th key={title} scope="col" className={title.startsWith(">") ? "right" : undefined}>
            {title.replace(">", "")}
          </th>
        ))}
      </tr>
    </thead>
  );
}
