// What people type, and what is shown to them. The sentences are those of the client in Go.

import { invalid } from './errors.js'
import { base64, fromBase64, parse, write } from './json.js'
import { is } from './kinds.js'

const asks = {
  bool: 'true or false',
  int: 'a whole number',
  float: 'a number such as 4.5',
  text: 'a text',
  bytes: 'base64',
  time: 'a time such as 2026-05-03T09:12:44Z',
  list: 'a list such as ["C4","B2"]',
  map: 'a map such as {"bed":"C4"}',
}

/** Reads what a user typed, and checks it against the rules of a key. */
export function parseTyped(key, typed) {
  if (key.kind !== 'text') typed = typed.trim()
  let x
  try {
    x = read(key.kind, typed)
  } catch {
    throw invalid(sentence(key, typed))
  }
  const bad = x < key.min || x > key.max || key.choices?.includes(x) === false || !is[key.kind](x)
  if (bad) throw invalid(sentence(key, typed))
  const why = key.check?.(x)
  if (why) throw invalid(why)
  return x
}

/** Returns a value in the form that parseTyped reads. */
export function format(key, x) {
  switch (key.kind) {
    case 'text': return x
    case 'bytes': return base64(x)
    case 'time': return x.toISOString().replace(/\.?0*Z$/, 'Z')
  }
  return write(x, key.kind)
}

function read(kind, typed) {
  switch (kind) {
    case 'text': return typed
    case 'bytes': return fromBase64(typed)
    case 'time':
      if (!/^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)$/.test(typed)) throw 0
      return new Date(typed)
    case 'int': {
      const plain = plainNumber(typed)
      if (!/^-?\d+(\.0*)?$/.test(plain)) throw 0
      const n = BigInt(plain.split('.')[0])
      return Number.isSafeInteger(Number(n)) ? Number(n) : n
    }
    case 'float': {
      const plain = plainNumber(typed)
      if (!/^-?\d/.test(plain)) throw 0
      return Number(JSON.parse(plain))
    }
  }
  return parse(typed)
}

/**
 * Converts a number that a person typed to the form of JSON: with a sign, leading zeros, a leading
 * point, or a decimal comma if it can't be a thousands separator. Anything else stays.
 */
function plainNumber(typed) {
  let rest = typed.replace(/^\+/, ''), sign = ''
  if (rest === typed && rest[0] === '-') sign = '-', rest = rest.slice(1)
  const comma = rest.indexOf(',')
  if (comma >= 0) {
    const before = rest.slice(0, comma), after = rest.slice(comma + 1)
    if (/^\d{3}$/.test(after) && before !== '0' && before !== '' || /[,.]/.test(after) || before.includes('.')) return typed
    rest = `${before}.${after}`
  }
  const digits = rest.toLowerCase().split('e')[0]
  if (!/^[\d.]*$/.test(digits) || !/\d/.test(digits)) return typed
  rest = rest.replace(/^0+/, '')
  if (!/^\d/.test(rest)) rest = `0${rest}`
  return sign + rest.replace(/\.$/, '')
}

/** Returns what a user can enter instead of what was typed. */
function sentence(key, typed) {
  let ask = asks[key.kind]
  if (key.min !== undefined) ask += ` from ${format(key, key.min)} to ${format(key, key.max)}`
  if (key.choices) ask = `one of ${key.choices.join(', ')}`
  if (typed === '') return `Nothing was entered. Enter ${ask}.`
  return `${JSON.stringify([...typed].length > 60 ? `${[...typed].slice(0, 60).join('')}…` : typed)} won't do. Enter ${ask}.`
}
