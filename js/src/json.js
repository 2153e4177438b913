// JSON that keeps what JavaScript would spoil: integers beyond 2^53, and floats without a fraction.

import { invalid } from './errors.js'
import { is } from './kinds.js'

/** Returns 128 random bits in hex. */
export const draw = () => Array.from(crypto.getRandomValues(new Uint8Array(16)), b => b.toString(16).padStart(2, '0')).join('')

const marker = draw() // replaces what JSON would spoil; it is random, so that no value contains it

const tooLong = number => /^-?\d{16,}$/.test(number) && !Number.isSafeInteger(+number)

/**
 * Reads JSON. An integer that a number can't hold becomes a bigint. Otherwise make makes something of
 * each number that odd selects by its text.
 */
export function parse(text, odd = tooLong, make = BigInt) {
  if (odd === tooLong && !/\d{16}/.test(text)) return JSON.parse(text)
  const marked = text.replace(/"(?:\\.|[^"\\])*"|-?\d[\d.eE+-]*/g, s => s[0] !== '"' && odd(s) ? `{"${marker}":"${s}"}` : s)
  return JSON.parse(marked, (_, x) => x?.[marker] ? make(x[marker]) : x)
}

/** Writes a value as JSON. With the kind float, 5 is written as 5.0. */
export function write(x, kind) {
  const composite = /list|map/.test(kind)
  const text = JSON.stringify(x, function (at, x) {
    const own = this[at] // before its toJSON
    if (own instanceof Date && composite) throw invalid('a time inside a list or a map would be read as a text: store it as a text or a number')
    if (is.bytes(own)) return base64(own)
    if (typeof x === 'bigint') return marker + x
    if (kind === 'float' && Number.isInteger(x)) return marker + (Object.is(x, -0) ? '-0.0' : String(x).replace(/^-?\d+$/, '$&.0'))
    if (x == null || is.bool(x) || is.text(x) || is.list(x) || is.map(x) || (Number.isInteger(x) ? is.int(x) : is.float(x))) return x
    throw invalid(`${String(x)} can't be stored`)
  })
  return text.replace(RegExp(`"${marker}([^"]*)"`, 'g'), '$1')
}

export const base64 = bytes => btoa(Array.from(bytes, b => String.fromCharCode(b)).join(''))
export const fromBase64 = text => Uint8Array.from(atob(text), c => c.charCodeAt(0))
