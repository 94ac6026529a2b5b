// Handlers for tests: what a person may write, and what may go wrong.
export async function tide(event, context) {
  console.log('tide', context.attempt, context.lastAttempt, context.leftMs > 0, context.signal.aborted);
  return { level: 3, query: event.query, body: event.body };
}
export const data = (body) => body;
export const raw = () => new TextEncoder().encode('raw bytes');
export const batch = (events) => ({ retry: events.filter((e) => e.data.pass === 'later').map((e) => e.id) });
export class Desk { asked = 0; ask() { return ++this.asked; } }
export const desk = new Desk();
export const page = async (request) => new Response(`${request.method} ${await request.text()}`, { status: 203, headers: { 'x-url': request.url } });
export function server(req, res) {
  let body = '';
  req.on('data', (c) => { body += c; });
  req.on('end', () => { res.writeHead(207, { 'x-url': req.url }); res.end(`got ${body}`); });
}
export function raises() { throw new RangeError('too high'); }
export const noJSON = () => 10n;
export const never = () => new Promise(() => {});
export function later() { setTimeout(() => { throw new Error('later'); }, 2); return new Promise(() => {}); }
export function rejects() { Promise.reject(new Error('stray')); return new Promise(() => {}); }
export function leaves() { process.exit(4); }
export const nothing = () => {};
export default (event) => ({ from: 'default', path: event.path });
export const slow = () => new Promise((resolve) => { setTimeout(resolve, 60_000); });
