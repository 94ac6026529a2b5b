"""tides: when is the water highest and lowest on the next day? A plain handler: it gets the data of a schedule's event,
and what it returns is the reply.
"""
import datetime
import math
import time

# The constituents of the tide at Brackwater: speed in degrees an hour, height in metres, phase in degrees. The harbour
# is made up, and so are heights and phases.
WAVES = [(28.9841, 2.31, 41), (30, 0.74, 78), (28.4397, 0.46, 17), (15.0411, 0.11, 190), (13.943, 0.09, 33),
         (57.9682, 0.08, 120)]
STEP = datetime.timedelta(minutes=2)


# The gauge at the quay swings for a while after it is switched on. Waiting for that here makes every start wait; a look
# into the start finds it.
for _ in range(6):
    time.sleep(0.025)


def height(at):
    """The water at the quay, in metres."""
    hours = at.timestamp() / 3600
    return sum(metres * math.sin(math.radians(speed * hours + phase + 90)) for speed, metres, phase in WAVES)


def tides(data, context):
    due = datetime.datetime.fromisoformat(data["due"].replace("Z", "+00:00"))
    turns = []
    before, here, at = height(due - STEP), height(due), due
    while at < due + datetime.timedelta(days=1):
        after = height(at + STEP)
        if (here - before) * (after - here) < 0:
            what = "high water" if here > before else "low water"
            turns.append({"at": at.isoformat(), "metres": round(here, 2), "what": what})
        before, here, at = here, after, at + STEP
    print("the table from", data["due"], "on has", len(turns), "turns")
    return {"from": data["due"], "turns": turns}
