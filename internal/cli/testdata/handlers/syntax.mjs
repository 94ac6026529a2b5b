export const a = 1;
export const f = (=> 1;
