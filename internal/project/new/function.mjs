// {{.Name}}: a small function. Any HTTP server that listens on PORT will do.
import { createServer } from "node:http";

createServer(async (request, response) => {
  let size = 0;
  for await (const part of request) size += part.length;
  const event = request.headers["ce-type"]; // an event: its attributes are in the ce- headers
  if (event) console.log("event", event, size, "bytes");
  response.setHeader("content-type", "application/json");
  response.end(JSON.stringify(event ? { seen: request.headers["ce-id"] } : { asked: request.url }));
}).listen(Number(process.env.PORT), "127.0.0.1");
