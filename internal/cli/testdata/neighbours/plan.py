"""Asks the office twice, and again when that fails; exports its spans as OTLP in JSON."""
import gzip, json, os, secrets, threading, time, urllib.error, urllib.request

OFFICE, SPANS = os.environ["OFFICE_URL"], os.environ.get("OTEL_EXPORTER_OTLP_ENDPOINT")


def ask(path):
    for _ in range(3):
        try:
            with urllib.request.urlopen(OFFICE + path) as r:
                return json.load(r)["asked"]
        except urllib.error.HTTPError as e:
            e.read()
    return 0


def export(spans):
    body = gzip.compress(json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": spans}]}]}).encode())
    urllib.request.urlopen(urllib.request.Request(SPANS + "/v1/traces", body, {
        "Content-Type": "application/json", "Content-Encoding": "gzip"})).read()


def plan(event, context):
    _, trace, parent, _ = context.traceparent.split("-")
    me, began, spans = secrets.token_hex(8), time.time_ns(), []

    def span(name, at, id, parent, **attributes):
        spans.append({"traceId": trace, "spanId": id, "parentSpanId": parent, "name": name, "kind": 3,
                      "startTimeUnixNano": str(at), "endTimeUnixNano": str(time.time_ns()), "attributes": [
                          {"key": k.replace("_", "."), "value": {"stringValue": v}} for k, v in attributes.items()]})

    vessel = event["query"]["vessel"]
    out = [ask(f"/berths?vessel={vessel}&token=s3cret-of-the-office"), ask("/tides")]
    for _ in range(3):
        at = time.time_ns()
        time.sleep(0.002)
        span("SELECT fares", at, secrets.token_hex(8), me, db_query_text="SELECT * FROM fares WHERE who = 'Ada'")
    span("plan", began, me, parent)
    if SPANS:
        threading.Thread(target=export, args=(spans,)).start()
    return out
