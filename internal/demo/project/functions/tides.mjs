// tides: when is the water highest and lowest on the next day? A plain handler: it gets the data of a schedule's event,
// and what it returns is the reply.

// The constituents of the tide at Brackwater: speed in degrees an hour, height in metres, phase in degrees. The harbour
// is made up, and so are heights and phases.
const WAVES = [[28.9841, 2.31, 41], [30, 0.74, 78], [28.4397, 0.46, 17], [15.0411, 0.11, 190], [13.943, 0.09, 33],
  [57.9682, 0.08, 120]];
const STEP = 2 * 60_000;

// The gauge at the quay swings for a while after it is switched on. Waiting for that here makes every start wait; a look
// into the start finds it.
for (let n = 0; n < 6; n++) await new Promise((settled) => { setTimeout(settled, 25); });

/** The water at the quay, in metres. */
function height(at) {
  const hours = at / 3_600_000;
  return WAVES.reduce((sum, [speed, metres, phase]) =>
    sum + metres * Math.sin((speed * hours + phase + 90) * Math.PI / 180), 0);
}

export function tides(data) {
  const due = Date.parse(data.due);
  const turns = [];
  let [before, here] = [height(due - STEP), height(due)];
  for (let at = due; at < due + 86_400_000; at += STEP) {
    const after = height(at + STEP);
    if ((here - before) * (after - here) < 0) {
      turns.push({ at: new Date(at).toISOString(), metres: Number(here.toFixed(2)),
        what: here > before ? 'high water' : 'low water' });
    }
    [before, here] = [here, after];
  }
  console.log(`the table from ${data.due} on has ${turns.length} turns`);
  return { from: data.due, turns };
}
