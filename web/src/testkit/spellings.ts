const pad = (text: string, n: number) => text.padStart(n, "0");

/** v4 gives an address in many spellings. */
export function v4(b: number[]): string[] {
  const [p, q, r, s] = b as [number, number, number, number];
  const n = p * 2 ** 24 + q * 2 ** 16 + r * 256 + s;
  const dotted = b.join(".");
  const hex = pad(n.toString(16), 8);
  return [
    dotted,
    `${dotted}:4711`,
    `${dotted}/32`,
    `"${dotted}"`,
    `[${dotted}]`,
    `::ffff:${dotted}`,
    `[::ffff:${dotted}]:80`,
    `::ffff:${hex.slice(0, 4)}:${hex.slice(4)}`,
    `64:ff9b::${dotted}`,
    String(n),
    `0x${hex}`,
    `0X${hex.toUpperCase()}`,
    b.map((o) => `0x${o.toString(16)}`).join("."),
    b.map((o) => pad(o.toString(8), 4)).join("."),
    b.map((o) => pad(String(o), 3)).join("."),
    `0${n.toString(8)}`,
    `${p}.${q}.${r * 256 + s + (r === 0 ? 1024 : 0)}`,
    `${[...b].reverse().join(".")}.in-addr.arpa`,
    `${[...b].reverse().join(".")}.in-addr.arpa.`,
    `host-${b.join("-")}.dyn.example.net`,
    `${b.join("-")}.example.net`,
    `${[...b].reverse().join("-")}.pool.example.net`,
    `ip_${b.join("_")}`,
    `dyn${b.join("-")}`,
    dotted.replaceAll(".", "%2E"),
    dotted.replaceAll(".", "[.]"),
    dotted.replaceAll(".", "(.)"),
    dotted.replaceAll(".", "[dot]"),
    dotted.replaceAll(".", "．"),
    `http://${dotted}/x`,
    `for="${dotted}:80";proto=https`,
    `2002:${hex.slice(0, 4)}:${hex.slice(4)}::1`,
  ];
}

/** v6 gives the spellings of an address of eight groups. */
export function v6(g: number[]): string[] {
  const short = g.map((x) => x.toString(16)).join(":");
  const long = g.map((x) => pad(x.toString(16), 4)).join(":");
  const compressed = `${g[0]?.toString(16)}:${g[1]?.toString(16)}::${g[7]?.toString(16)}`;
  const nibbles = [...long.replaceAll(":", "")].reverse().join(".");
  return [
    short,
    long,
    long.toUpperCase(),
    compressed,
    `[${compressed}]:443`,
    `${compressed}%eth0`,
    `${compressed}/128`,
    long.replaceAll(":", "-"),
    `${long.replaceAll(":", "-")}.ipv6.example.net`,
    `${compressed.replaceAll(":", "-")}.dyn.example.net`,
    long.replaceAll(":", "%3A"),
    `${nibbles}.ip6.arpa`,
    long.replaceAll(":", ""),
    `0x${long.replaceAll(":", "")}`,
    BigInt(`0x${long.replaceAll(":", "")}`).toString(),
    `http://[${compressed}]/x`,
  ];
}
