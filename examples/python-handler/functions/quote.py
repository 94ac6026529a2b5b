"""quote: what does a crossing cost? A plain function: it gets the request, and what it returns is the reply."""

BASE = {"skerry-holm": 450, "holm-skerry": 450, "brackwater-skerry": 720, "skerry-brackwater": 720}
VEHICLE = {"foot": 0, "bicycle": 300, "car": 2900, "van": 4400}


def quote(event, context):
    crossing, ask = event["path"].removeprefix("/quote/"), event["query"]
    if crossing not in BASE:
        return {"status": 404, "body": {"error": "no such crossing"}}
    cents = BASE[crossing] * int(ask.get("passengers", "1")) * 9 // 10 + VEHICLE[ask.get("vehicle", "foot")]
    print("quoted", crossing, "on", context.instance)
    return {"status": 200, "body": {"crossing": crossing, "cents": cents}}
