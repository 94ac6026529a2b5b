// Clients of other makers: the SDK of CloudEvents for Node, and an independent client of Kafka. What it is to do is the
// first argument, the port of Kafka the second; events come on standard input as JSON, and what comes of it goes out as
// JSON.
import { readFileSync } from "node:fs";
import { CloudEvent, HTTP, Kafka, MQTT } from "cloudevents";
import { Kafka as Broker, logLevel } from "kafkajs";

const [what, port] = process.argv.slice(2);
const input = JSON.parse(readFileSync(0, "utf8"));
const kafka = () => new Broker({
  clientId: "gate", brokers: [`127.0.0.1:${port}`], logLevel: logLevel.NOTHING,
});
const bytes = (body) => Buffer.from(typeof body === "string" || Buffer.isBuffer(body) ? body : JSON.stringify(body));

const does = {
  // events in the two forms of the binding for MQTT: user properties, content type and bytes
  written: async () => input.map((e) => new CloudEvent(e)).flatMap((e) => [MQTT.binary(e), MQTT.structured(e)])
    .map((m) => ({ properties: m["User Properties"], type: m.PUBLISH["Content Type"],
      payload: bytes(m.payload).toString("base64") })),
  // events of requests
  read: async () => input.map(({ headers, body }) => HTTP.toEvent({ headers, body })),
  // events sent to Kafka, each in binary and in structured mode
  send: async () => {
    const producer = kafka().producer();
    await producer.connect();
    for (const e of input.map((e) => new CloudEvent(e))) {
      for (const m of [Kafka.binary(e), Kafka.structured(e)]) {
        await producer.send({ topic: "scans", messages: [{
          key: e.partitionkey, value: bytes(m.value),
          headers: Object.fromEntries(Object.entries(m.headers).filter(([, v]) => v !== undefined)) }] });
      }
    }
    await producer.disconnect();
    return input.length;
  },
  // how far the group has acknowledged the topic, summed over its partitions; -1 where there is no such group
  acknowledged: async () => {
    const admin = kafka().admin();
    await admin.connect();
    const [topic] = await admin.fetchOffsets({ groupId: "crew", topics: ["scans"] }).catch((e) => {
      if (e.type !== "GROUP_ID_NOT_FOUND") throw e;
      return [];
    });
    await admin.disconnect();
    return topic === undefined ? -1 : topic.partitions.reduce((sum, p) => sum + Math.max(0, Number(p.offset)), 0);
  },
};
console.log(JSON.stringify(await does[what]()));
