// Values as people read and type them.

import { parse as read } from '/small-pantry.js'

// A number that JavaScript would write otherwise, such as 5.0 or 9007199254740993.

class Exact {
  constructor(text) { this.text = text }
  toString() { return this.text }
  valueOf() { return Number(this.text) }
}

/** Reads JSON, with every digit. */
export const parse = text => read(text, n => String(Number(n)) !== n, n => new Exact(n))

/** Writes a value as JSON, with every digit. */
export function json(x) {
  if (x instanceof Exact) return x.text
  if (Array.isArray(x)) return `[${x.map(json).join(', ')}]`
  if (x && typeof x === 'object') return `{${Object.entries(x).map(([k, v]) => `${JSON.stringify(k)}: ${json(v)}`).join(', ')}}`
  return JSON.stringify(x)
}

export const kinds = ['text', 'int', 'float', 'bool', 'time', 'list', 'map', 'bytes']
const words = { text: 'text', int: 'whole number', float: 'number', bool: 'true/false', time: 'time', list: 'list', map: 'map', bytes: 'bytes' }
export const wordFor = kind => words[kind] ?? kind ?? ''

export const isNumber = kind => kind === 'int' || kind === 'float'

const bytesOf = base64 => Uint8Array.from(atob(base64), c => c.charCodeAt(0))
const many = (n, one) => `${n} ${one}${n === 1 ? '' : 's'}`
const start = (text, n) => text.length > n ? `${text.slice(0, n)}…` : text
const bare = x => typeof x === 'string' ? x : json(x)

/** What a value is typed as; read again as its kind, it is the same. */
export const typed = (value, kind) => kind === 'list' || kind === 'map' ? json(value) : String(value)

/** A value in one line, at most a few hundred characters long. */
export function line(value, kind) {
  switch (kind) {
    case 'text': return value === '' ? 'empty' : start(value, 300)
    case 'time': return new Date(value).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' })
    case 'bytes': {
      const all = bytesOf(value)
      return `${many(all.length, 'byte')}${all.length ? ': ' : ''}${Array.from(all.slice(0, 16), b => b.toString(16).padStart(2, '0')).join(' ')}${all.length > 16 ? ' …' : ''}`
    }
    case 'list': return `${many(value.length, 'item')}${value.length ? ': ' : ''}${value.slice(0, 4).map(x => start(bare(x), 60)).join(', ')}${value.length > 4 ? ', …' : ''}`
    case 'map': {
      const all = Object.entries(value)
      return `${all.slice(0, 4).map(([k, x]) => `${start(k, 40)}: ${start(bare(x), 60)}`).join(', ') || 'an empty map'}${all.length > 4 ? ', …' : ''}`
    }
  }
  return start(String(value), 300)
}

/** A value in full, for reading. */
export function full(value, kind) {
  switch (kind) {
    case 'list': return value.map(bare).join('\n') || 'an empty list'
    case 'map': return Object.entries(value).map(([k, x]) => `${k}: ${bare(x)}`).join('\n') || 'an empty map'
  }
  return String(value)
}

/** Whether one line shows all of it. */
export const fits = (value, kind) => kind === 'list' || kind === 'map' ? json(value).length < 40 : kind === 'bytes' ? value.length < 24 : kind === 'text' ? value.length < 60 && !value.includes('\n') : true

// A list is edited as lines. What would be read as something else, or has none, is JSON.
export const toLines = list => list.map(x => typeof x === 'string' && x.trim() === x && x !== '' && !/[\n\r]/.test(x) && !isJSON(x) ? x : json(x)).join('\n')
const isJSON = s => { try { parse(s); return true } catch { return false } }
export const fromLines = text => `[${text.split('\n').filter(l => l.trim()).map(l => isJSON(l) ? l : JSON.stringify(l.trim())).join(',')}]`

/** Whether a text is what JSON's grammar calls a number. */
export const isAmount = text => /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text)

/** How long ago, in words. */
export function age(when, now = Date.now()) {
  const s = Math.max(0, (now - Date.parse(when)) / 1000)
  if (s < 5) return 'now'
  if (s < 60) return `${Math.floor(s)} s`
  if (s < 3600) return `${Math.floor(s / 60)} min`
  if (s < 86400) return `${Math.floor(s / 3600)} h`
  if (s < 86400 * 60) return many(Math.floor(s / 86400), 'day')
  return new Date(when).toLocaleDateString(undefined, { dateStyle: 'medium' })
}

/** An op of a commit, of which members are JSON already. */
export const makeOp = (op, name, members, tag) => ({ op, name, json: `{"op":"${op}","name":${JSON.stringify(name)}${members && `,${members}`}}`, if: tag })
