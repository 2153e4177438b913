// The client of a board, for pages and Node: see small-pantry.d.ts.

export { join } from './board.js'
export { bool, bytes, family, float, int, list, map, oneOf, records, text, time } from './keys.js'
export { BoardError } from './errors.js'
export { parse, write } from './json.js'
export { tagOf } from './ops.js'
