await new Promise(() => { setInterval(() => {}, 1000); });
export const f = () => 1;
