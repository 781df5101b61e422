// A page that the server greets by town: a Node application behind nginx-handover.conf,
// haproxy-handover.cfg or apache-handover.conf, which hand the town on and remove what a client
// sent under its name. Run it with: node greeting.mjs
import { createServer } from "node:http";

function greeting(headers) {
  try {
    const city = decodeURIComponent(headers["porch-city"] ?? ""); // percent-encoded UTF-8
    if (city) return `Hello to ${city}!`;
  } catch {
    // It is not the proxy's: no town.
  }
  return "Hello, wherever you are!";
}

const escaped = (text) => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);

createServer((request, response) => {
  response.writeHead(200, {
    "Content-Type": "text/html; charset=utf-8",
    "Cache-Control": "private, no-store", // it is for this visitor alone
  });
  response.end(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<title>Greeting</title>
<h1>${escaped(greeting(request.headers))}</h1>
</html>
`);
}).listen(3000, "127.0.0.1");
