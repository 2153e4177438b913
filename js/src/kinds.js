// The kinds of values.

/** Reports, for each kind, whether a JavaScript value is one of it. */
export const is = {
  bool: x => typeof x === 'boolean',
  int: x => typeof x === 'bigint' ? BigInt.asIntN(64, x) === x : Number.isSafeInteger(x),
  float: x => Number.isFinite(x),
  text: x => typeof x === 'string',
  bytes: x => x instanceof Uint8Array,
  time: x => x instanceof Date && !isNaN(x),
  list: x => Array.isArray(x),
  map: x => typeof x === 'object' && !!x && [Object.prototype, null].includes(Object.getPrototypeOf(x)),
}

const words = {
  bool: 'true or false', int: 'a whole number', float: 'a number', text: 'a text', bytes: 'bytes', time: 'a time', list: 'a list', map: 'a map',
}

/** Returns a kind in words, such as "a whole number". */
export const wordFor = kind => words[kind] ?? kind
