// Writes the same rows as main.go with another writer, parquet-wasm.
import { readFileSync, writeFileSync } from "node:fs";
import { createRequire } from "node:module";

const require = createRequire(import.meta.url);
const arrow = require("apache-arrow");
const wasm = require("parquet-wasm/node");

const dir = process.argv[2];
const [head, ...rows] = readFileSync(`${dir}/rows.csv`, "utf8").trim().split("\n").map((line) => line.split(","));
const column = (name) => rows.map((row) => row[head.indexOf(name)] || null);
const scaled = (text) => text && BigInt(Math.round(Number(text) * 10000));
// decimal is a vector of 128 bits, the low 32 first.
const decimal = (values, precision) => {
  const type = new arrow.Decimal(4, precision, 128);
  const words = new Uint32Array(values.length * 4), present = new Uint8Array(Math.ceil(values.length / 8));
  values.forEach((v, i) => {
    if (v === null) return;
    present[i >> 3] |= 1 << (i & 7);
    for (let w = 0; w < 4; w++) words[4 * i + w] = Number(BigInt.asUintN(32, v >> BigInt(32 * w)));
  });
  return arrow.makeVector(arrow.makeData({ type, length: values.length, nullCount: values.filter((v) => v === null).length, data: words, nullBitmap: present }));
};
const vector = (values, type) => arrow.vectorFromArray(values, type);
const table = new arrow.Table({
  first: vector(column("first").map(Number), new arrow.Uint32()),
  last: vector(column("last").map(BigInt), new arrow.Uint64()),
  country_code: vector(column("country_code"), new arrow.Dictionary(new arrow.Utf8(), new arrow.Int32())),
  city: vector(column("city"), new arrow.Utf8()),
  latitude: decimal(column("latitude").map(scaled), 9),
  longitude: decimal(column("longitude").map(scaled), 30),
  radius_km: vector(column("radius_km").map((t) => t && Number(t)), new arrow.Float64()),
  as_number: vector(column("as_number").map((t) => t && Number(t)), new arrow.Uint32()),
  labels: vector(column("labels").map((t) => t && t.split(";")), new arrow.List(new arrow.Field("item", new arrow.Utf8(), true))),
});
const { Compression, Encoding, WriterPropertiesBuilder } = wasm;
const write = (name, properties) => {
  writeFileSync(`${dir}/wasm-${name}.parquet`, wasm.writeParquet(wasm.Table.fromIPCStream(arrow.tableToIPC(table, "stream")), properties.build()));
  console.log(name);
};
for (const name of ["UNCOMPRESSED", "SNAPPY", "GZIP", "BROTLI", "ZSTD", "LZ4_RAW"]) {
  write(name.toLowerCase().replace("_", ""), new WriterPropertiesBuilder().setCompression(Compression[name]));
}
write("plain", new WriterPropertiesBuilder().setDictionaryEnabled(false).setEncoding(Encoding.PLAIN));
write(
  "delta",
  new WriterPropertiesBuilder().setDictionaryEnabled(false)
    .setColumnEncoding("first", Encoding.DELTA_BINARY_PACKED).setColumnEncoding("last", Encoding.DELTA_BINARY_PACKED)
    .setColumnEncoding("city", Encoding.DELTA_BYTE_ARRAY).setColumnEncoding("country_code", Encoding.DELTA_LENGTH_BYTE_ARRAY),
);
