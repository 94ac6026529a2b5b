// Runs a plain handler for Night Drill: loads FILE, finds NAME in it, and answers what comes over a Unix socket,
// one connection for each slot. See docs/loaders.md for the framing. Only Node's own modules are used.
const began = process.hrtime.bigint();
import fs from 'node:fs';
import net from 'node:net';
import path from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';

const own = fileURLToPath(import.meta.url);
const [file, name, address, slots, takes] = process.argv.slice(2);
process.argv.splice(1, process.argv.length - 1, path.resolve(file));
const headBytes = 12; // number, length of the head, length of the body

/** frame returns a frame's bytes. */
function frame(number, head, body = Buffer.alloc(0)) {
  const text = Buffer.from(JSON.stringify(head));
  const lengths = Buffer.alloc(headBytes);
  lengths.writeUInt32BE(number, 0);
  lengths.writeUInt32BE(text.length, 4);
  lengths.writeUInt32BE(body.length, 8);
  return Buffer.concat([lengths, text, body]);
}

/** framesOf returns the user's frames of an error, without those of this loader and of Node. */
function framesOf(error) {
  const out = [];
  for (const line of String(error?.stack ?? '').split('\n')) {
    const m = /^\s*at (?:(.*?) \()?(?:file:\/\/)?(\/.*?):(\d+):\d+\)?$/.exec(line);
    if (m && m[2] !== own) out.push({ file: decodeURI(m[2]), line: Number(m[3]), name: m[1] ?? '' });
  }
  return out;
}

function reportOf(kind, error) {
  const frames = framesOf(error);
  // a syntax error names its place in the first line of its stack alone
  const at = frames[0] ?? (/^(?:file:\/\/)?(\/.*?):(\d+)\n/.exec(String(error?.stack ?? '')) ?? []);
  return {
    kind, type: error?.name ?? typeof error, message: error?.message ?? String(error),
    file: frames[0]?.file ?? at[1] ?? '', line: frames[0]?.line ?? Number(at[2] ?? 0),
    trace: frames.map((f) => `${f.file}:${f.line}${f.name ? ` in ${f.name}` : ''}`),
  };
}

/** distance is the number of letters by which two names differ (Levenshtein). */
function distance(a, b) {
  let row = [...Array(b.length + 1).keys()];
  for (let i = 1; i <= a.length; i++) {
    const next = [i];
    for (let j = 1; j <= b.length; j++) {
      next.push(Math.min(row[j] + 1, next[j - 1] + 1, row[j - 1] + (a[i - 1] === b[j - 1] ? 0 : 1)));
    }
    row = next;
  }
  return row[b.length];
}

function near(wanted, names) {
  const found = names.map((n) => [distance(wanted, n), n]).sort((a, b) => a[0] - b[0])[0];
  return found && found[0] <= Math.max(2, wanted.length / 3) ? ` (did you mean ${JSON.stringify(found[1])}?)` : '';
}

class LoadError extends Error {
  constructor(kind, message, more = {}) {
    super(message);
    this.report = { kind, message, file, line: 0, trace: [], ...more };
  }
}

/** placeOfSyntaxError asks Node where the mistake is: the error itself does not say it. */
async function placeOfSyntaxError() {
  const { spawnSync } = await import('node:child_process');
  const { stderr } = spawnSync(process.execPath, ['--check', path.resolve(file)], { encoding: 'utf8', timeout: 5000 });
  const m = /^(?:file:\/\/)?(\/.*?):(\d+)$/m.exec(stderr ?? '');
  return m ? { file: decodeURI(m[1]), line: Number(m[2]) } : {};
}

async function load() {
  if (!fs.existsSync(file)) throw new LoadError('no-file', `no file ${file}`);
  let module;
  try {
    module = await import(pathToFileURL(path.resolve(file)).href);
  } catch (e) {
    const r = reportOf('import', e);
    if (e?.code === 'ERR_UNKNOWN_FILE_EXTENSION') r.message = `this Node (${process.version}) cannot load ${path.extname(file)} files; newer ones strip types, or build it to JavaScript first`;
    if (e instanceof SyntaxError && r.line === 0) Object.assign(r, await placeOfSyntaxError());
    throw new LoadError('import', `${r.type}: ${r.message}`, { line: r.line, file: r.file || path.resolve(file), trace: r.trace });
  }
  let found = module;
  let of = module;
  for (const part of name.split('.')) {
    of = found;
    found = of?.[part] ?? (of === module ? module.default?.[part] : undefined);
    if (found === undefined && part === 'default') found = module.default;
    if (found === undefined) {
      const names = [...new Set([...Object.keys(of ?? {}), ...Object.keys(module.default ?? {})])];
      throw new LoadError('no-name', `${file} does not export ${JSON.stringify(part)}${near(part, names)}`);
    }
  }
  if (typeof found !== 'function') throw new LoadError('not-callable', `${name} is a ${typeof found}, and cannot be called`);
  return name.includes('.') ? found.bind(of) : found;
}

function valueOf(kind, data) {
  const type = (kind ?? '').split(';')[0].trim().toLowerCase();
  if (type === '' || type === 'application/json' || type.endsWith('+json')) {
    if (data.length === 0) return null;
    try { return JSON.parse(data.toString()); } catch { /* it stays bytes */ }
  }
  return data;
}

function requestOf(head, body) {
  const [target, query = ''] = head.request.target.split(/\?(.*)/s);
  const headers = {};
  for (const [n, v] of head.request.headers) {
    const lower = n.toLowerCase();
    headers[lower] = lower in headers ? `${headers[lower]}, ${v}` : v;
  }
  return { method: head.request.method, path: target, query: Object.fromEntries(new URLSearchParams(query)), headers,
    body: body.length > 0 ? valueOf(headers['content-type'], body) : null };
}

function argument(head, body) {
  if (head.takes === 'shaped') return valueOf('application/json', body);
  if (head.request) {
    const r = requestOf(head, body);
    return head.takes === 'data' ? r.body : r;
  }
  let at = 0;
  const events = head.events.map((e) => {
    const data = valueOf(e.attributes.datacontenttype, body.subarray(at, at + e.size));
    at += e.size;
    return head.takes === 'data' ? data : { ...e.attributes, data };
  });
  return head.batch ? events : events[0];
}

/** Context is the second parameter of a handler. Its signal is made when it is asked for. */
class Context {
  #until;
  #abort;
  #timer;
  constructor(head) {
    this.#until = performance.now() + (head.left_ms ?? 0);
    this.id = head.id ?? '';
    this.attempt = head.attempt ?? 1;
    this.lastAttempt = head.last_attempt ?? false;
    this.deadline = head.deadline ?? '';
    this.instance = head.instance ?? '';
    this.traceparent = head.traceparent ?? '';
    this.attributes = head.events?.[0]?.attributes ?? {};
  }
  get leftMs() { return Math.max(0, this.#until - performance.now()); }
  get signal() {
    if (!this.#abort) {
      this.#abort = new AbortController();
      this.#timer = setTimeout(() => this.#abort.abort(new Error('the time for this event is over')), this.leftMs);
      this.#timer.unref();
    }
    return this.#abort.signal;
  }
  static end(context) { clearTimeout(context.#timer); }
}

/** asFetch gives a handler the standard's Request, and takes its Response. */
async function asFetch(handler, head, body) {
  const r = head.request;
  const host = r.headers.find(([n]) => n.toLowerCase() === 'host')?.[1] ?? 'localhost';
  const has = r.method !== 'GET' && r.method !== 'HEAD' && body.length > 0;
  const response = await handler(new Request(`http://${host}${r.target}`,
    { method: r.method, headers: r.headers, body: has ? body : undefined }));
  if (typeof response?.arrayBuffer !== 'function') throw new TypeError('it did not return a Response');
  return [{ kind: 'response', status: response.status, headers: [...response.headers] },
    Buffer.from(await response.arrayBuffer())];
}

/** asServer gives a handler the request and the response of node:http. */
async function asServer(handler, head, body) {
  const http = await import('node:http');
  const r = head.request;
  const request = new http.IncomingMessage(new net.Socket());
  Object.assign(request, { method: r.method, url: r.target, httpVersion: '1.1', complete: true });
  for (const [n, v] of r.headers) {
    const lower = n.toLowerCase();
    request.headers[lower] = lower in request.headers ? `${request.headers[lower]}, ${v}` : v;
    request.rawHeaders.push(n, v);
  }
  request.push(body.length > 0 ? body : null);
  if (body.length > 0) request.push(null);
  const response = new http.ServerResponse(request);
  const parts = [];
  const take = (chunk, encoding) => {
    if (chunk !== undefined && chunk !== null && typeof chunk !== 'function') {
      parts.push(Buffer.from(chunk, typeof encoding === 'string' ? encoding : undefined));
    }
  };
  response.writeHead = (status, reason, headers) => {
    response.statusCode = status;
    const all = typeof reason === 'object' ? reason : headers;
    for (const [n, v] of Object.entries(all ?? {})) response.setHeader(n, v);
    return response;
  };
  await new Promise((resolve, reject) => {
    response.write = (chunk, encoding, then) => { take(chunk, encoding); (then ?? encoding)?.call?.(null); return true; };
    response.end = (chunk, encoding, then) => {
      take(chunk, encoding);
      response.finished = true;
      response.emit('finish');
      resolve();
      [chunk, encoding, then].find((f) => typeof f === 'function')?.();
      return response;
    };
    try { Promise.resolve(handler(request, response)).catch(reject); } catch (e) { reject(e); }
  });
  const headers = Object.entries(response.getHeaders()).flatMap(([n, v]) => (Array.isArray(v) ? v : [v]).map((x) => [n, String(x)]));
  return [{ kind: 'response', status: response.statusCode, headers }, Buffer.concat(parts)];
}

function answered(value) {
  if (value === undefined || value === null) return [{ kind: 'nothing' }, Buffer.alloc(0)];
  if (value instanceof Uint8Array) return [{ kind: 'bytes' }, Buffer.from(value.buffer, value.byteOffset, value.byteLength)];
  const text = JSON.stringify(value);
  if (text === undefined) throw new TypeError(`a ${typeof value} is not JSON`);
  return [{ kind: 'json' }, Buffer.from(text)];
}

const open = new Map(); // what is in progress, by its connection
const connections = [];

/** last answers all that is in progress, synchronously: the process is about to end. */
function last(error) {
  for (const [conn, number] of open) {
    try { fs.writeSync(conn._handle.fd, frame(number, { kind: 'error', error, user_ns: 0 })); } catch { /* it is gone */ }
  }
  open.clear();
}

let ownPipes = 0; // standard streams and connections, which settle nothing

/** unsettled notes in the log that a promise cannot settle any more: nothing is open that could do it. */
function unsettled() {
  if (!process.getActiveResourcesInfo) return;
  const open = process.getActiveResourcesInfo();
  const pipes = open.filter((r) => r === 'PipeWrap').length;
  if (pipes <= ownPipes && open.every((r) => r === 'PipeWrap' || r === 'TTYWrap')) {
    console.error(`the promise that ${name} returned has not settled, and nothing is open that could settle it`);
  }
}

/** passTrace passes the trace context of the invocation on with what http, https and fetch send. */
async function passTrace() {
  const [{ AsyncLocalStorage }, { syncBuiltinESMExports }, http, https] = await Promise.all([
    import('node:async_hooks'), import('node:module'), import('node:http'), import('node:https')]);
  const now = new AsyncLocalStorage();
  for (const client of [http.default, https.default]) {
    for (const call of ['request', 'get']) {
      const original = client[call];
      client[call] = function (...given) {
        const r = original.apply(this, given);
        const trace = now.getStore();
        if (trace && !r.headersSent && !r.getHeader('traceparent')) r.setHeader('traceparent', trace);
        return r;
      };
    }
  }
  syncBuiltinESMExports();
  const original = globalThis.fetch;
  globalThis.fetch = function (input, init = {}) {
    const trace = now.getStore();
    if (!trace) return original(input, init);
    const headers = new Headers(init?.headers ?? (input instanceof Request ? input.headers : undefined));
    if (!headers.has('traceparent')) headers.set('traceparent', trace);
    return original(input, { ...init, headers });
  };
  return now;
}

const tracing = process.env.NIGHTDRILL_PASS_TRACE ? await passTrace() : undefined;

function answer(conn, handler, number, head, body) {
  if (!tracing) return answerNow(conn, handler, number, head, body);
  return tracing.run(head.traceparent, () => answerNow(conn, handler, number, head, body));
}

async function answerNow(conn, handler, number, head, body) {
  open.set(conn, number);
  const from = process.hrtime.bigint();
  let out;
  let user = 0;
  try {
    if (takes === 'request' && head.request) {
      out = await (handler.length >= 2 ? asServer : asFetch)(handler, head, body);
      user = Number(process.hrtime.bigint() - from);
    } else {
      const context = new Context(head);
      const given = argument(head, body);
      const at = process.hrtime.bigint();
      let value;
      let wait;
      try {
        value = handler(given, context);
        if (typeof value?.then === 'function') {
          wait = setTimeout(unsettled, head.left_ms * 0.8);
          wait.unref();
          value = await value;
        }
      } finally {
        clearTimeout(wait);
        Context.end(context);
        user = Number(process.hrtime.bigint() - at);
      }
      try {
        out = answered(value);
      } catch (e) {
        out = [{ kind: 'error', error: { ...reportOf('not-json', e), file: path.resolve(file), line: 0, trace: [], message: `it returned a value that is not JSON: ${e.message}` } }];
      }
    }
  } catch (e) {
    const report = reportOf('raised', e);
    console.error(e);
    out = [{ kind: 'error', error: report }];
  }
  out[0].user_ns = user;
  if (open.delete(conn)) conn.write(frame(number, out[0], out[1]));
}

function serve(conn, handler) {
  let chunks = [];
  let size = 0;
  let wanted = headBytes;
  conn.on('data', (chunk) => {
    chunks.push(chunk);
    size += chunk.length;
    if (size < wanted) return;
    let rest = chunks.length > 1 ? Buffer.concat(chunks) : chunks[0];
    while (rest.length >= headBytes) {
      const [head, body] = [rest.readUInt32BE(4), rest.readUInt32BE(8)];
      wanted = headBytes + head + body;
      if (rest.length < wanted) break;
      const number = rest.readUInt32BE(0);
      const text = rest.subarray(headBytes, headBytes + head).toString();
      const data = rest.subarray(headBytes + head, headBytes + head + body);
      rest = rest.subarray(wanted);
      wanted = headBytes;
      answer(conn, handler, number, JSON.parse(text), data);
    }
    chunks = rest.length > 0 ? [rest] : [];
    size = rest.length;
  });
  conn.on('close', () => process.exit(0));
  conn.on('error', () => process.exit(0));
}

for (let n = 0; n < Number(slots); n++) {
  connections.push(await new Promise((resolve, reject) => {
    const conn = net.connect(address, () => resolve(conn));
    conn.once('error', reject);
  }));
}
ownPipes = (process.getActiveResourcesInfo?.() ?? []).filter((r) => r === 'PipeWrap').length;
const loading = process.hrtime.bigint();
let handler;
try {
  handler = await load();
} catch (e) {
  const report = e.report ?? reportOf('import', e);
  fs.writeSync(connections[0]._handle.fd, frame(0, { error: report }));
  console.error([e.message, ...report.trace].join('\n  '));
  process.exit(3);
}
const loaded = process.hrtime.bigint();
process.on('uncaughtException', (e) => {
  console.error(e);
  last(reportOf('uncaught', e));
  process.exit(1);
});
process.on('exit', (code) => last({ kind: 'exit', type: '', message: `it called process.exit(${code})`, file: '', line: 0, trace: [] }));
connections.forEach((conn, slot) => {
  serve(conn, handler);
  conn.write(frame(0, { slot, loader_ns: Number(loading - began), load_ns: Number(loaded - loading) }));
});
