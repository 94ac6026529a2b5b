// quote: what does a crossing cost? A plain function: it gets the request, and what it returns is the reply.

const base = { 'skerry-holm': 450, 'holm-skerry': 450, 'brackwater-skerry': 720, 'skerry-brackwater': 720 };
const vehicles = { foot: 0, bicycle: 300, car: 2900, van: 4400 };

export async function quote(event, context) {
  const crossing = event.path.replace('/quote/', '');
  if (!(crossing in base)) return { status: 404, body: { error: 'no such crossing' } };
  const { passengers = '1', vehicle = 'foot' } = event.query;
  console.log('quoted', crossing, 'on', context.instance);
  return { status: 200, body: { crossing, cents: Math.floor(base[crossing] * Number(passengers) * 0.9) + vehicles[vehicle] } };
}
