exports.old = (event) => ({ cjs: true, path: event.path });
