// Numbers in words.
/** So many of something, in words that agree. */
export const some = (n: number, what: string) => (n === 1 ? `1 ${what}` : `${n} ${what}s`);
