type Tide = { level: number };
export const f = (e: unknown): Tide => ({ level: 1 });
