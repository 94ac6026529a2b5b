// Notes for Night Drill what each module of a start costs: CommonJS and ES modules, a line of JSON for each.
'use strict';
const fs = require('node:fs');
const Module = require('node:module');
const out = process.env.NIGHTDRILL_TREE;
if (out) {
  delete process.env.NIGHTDRILL_TREE; // it is of this process alone
  const fd = fs.openSync(out, 'a', 0o600);
  const now = () => Number(process.hrtime.bigint()) / 1e6;
  const note = (line) => { try { fs.writeSync(fd, `${JSON.stringify(line)}\n`); } catch { /* it is gone */ } };

  const open = [];
  const load = Module._load;
  Module._load = function nightdrill(request, parent, isMain) {
    if (Module.isBuiltin?.(request)) return load.call(this, request, parent, isMain);
    const x = { inner: 0 };
    const began = now();
    open.push(x);
    try {
      return load.call(this, request, parent, isMain);
    } finally {
      open.pop();
      const total = now() - began;
      if (open.length > 0) open[open.length - 1].inner += total;
      let name = request;
      try { name = Module._resolveFilename(request, parent, isMain); } catch { /* as it was asked for */ }
      if (total > 0.05) note({ name, parent: parent?.filename ?? '', total, own: total - x.inner });
    }
  };

  // an ES module is evaluated after those that it imports: what is between its first and its last line is its own
  const begun = new Map();
  globalThis.__nightdrill_begin = (url) => begun.set(url, now());
  globalThis.__nightdrill_end = (url) => {
    if (begun.has(url)) note({ name: url, parent: parents[url] ?? '', own: now() - begun.get(url), total: 0 });
  };
  const parents = Object.create(null);
  globalThis.__nightdrill_parent = (url, parent) => { parents[url] ??= parent; };
  const marked = `
    const mark = (url, source) => {
      const text = typeof source === 'string' ? source : Buffer.from(source).toString();
      if (text.startsWith('#!')) return text;
      const name = JSON.stringify(url);
      return 'globalThis.__nightdrill_begin?.(' + name + ');' + text + '\\n;globalThis.__nightdrill_end?.(' + name + ');';
    };
    const wanted = (url, result) => result.format === 'module' && result.source && url.startsWith('file:');
  `;
  if (Module.registerHooks) {
    const mark = new Function('url', 'source', `${marked} return mark(url, source);`);
    Module.registerHooks({
      resolve(specifier, context, next) {
        const r = next(specifier, context);
        if (context.parentURL) parents[r.url] ??= context.parentURL;
        return r;
      },
      load(url, context, next) {
        const r = next(url, context);
        return r.format === 'module' && r.source && url.startsWith('file:') ? { ...r, source: mark(url, r.source) } : r;
      },
    });
  } else if (Module.register) {
    // these run on a thread of their own: who imports whom is written by the module itself
    const hooks = `
      const parents = new Map();
      ${marked}
      export async function resolve(specifier, context, next) {
        const r = await next(specifier, context);
        if (context.parentURL && !parents.has(r.url)) parents.set(r.url, context.parentURL);
        return r;
      }
      export async function load(url, context, next) {
        const r = await next(url, context);
        if (!wanted(url, r)) return r;
        const by = 'globalThis.__nightdrill_parent?.(' + JSON.stringify(url) + ',' + JSON.stringify(parents.get(url) ?? '') + ');';
        const text = mark(url, r.source);
        return { ...r, source: text.startsWith('#!') ? text : by + text };
      }`;
    Module.register(`data:text/javascript,${encodeURIComponent(hooks)}`);
  }
}
