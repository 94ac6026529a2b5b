// quote: what does a crossing cost? Any HTTP server that listens on PORT will do.
import { createServer } from "node:http";

const base = { "skerry-holm": 450, "holm-skerry": 450, "brackwater-skerry": 720, "skerry-brackwater": 720 };
const vehicles = { foot: 0, bicycle: 300, car: 2900, van: 4400 };

// the initial work: every fare there is
const table = new Map();
for (const [crossing, cents] of Object.entries(base)) {
  for (const [vehicle, extra] of Object.entries(vehicles)) {
    for (let passengers = 1; passengers <= 2000; passengers++) {
      table.set(`${crossing} ${vehicle} ${passengers}`, Math.floor((cents * passengers * 9) / 10) + extra);
    }
  }
}

createServer((request, response) => {
  const url = new URL(request.url, "http://localhost");
  const crossing = url.pathname.replace("/quote/", "");
  const cents = table.get(`${crossing} ${url.searchParams.get("vehicle") ?? "foot"} ${url.searchParams.get("passengers") ?? 1}`);
  response.setHeader("content-type", "application/json");
  response.statusCode = cents === undefined ? 404 : 200;
  response.end(JSON.stringify(cents === undefined ? { error: "no such crossing" } : { crossing, cents }));
}).listen(Number(process.env.PORT), "127.0.0.1");
