// Declarations: keys, and collections of records.

import { BoardError, invalid } from './errors.js'
import { fromBase64 } from './json.js'
import { is, wordFor } from './kinds.js'
import { format, parseTyped } from './typed.js'

const checkName = name => {
  if (typeof name !== 'string' || /^$|(^|\/)\.{0,2}(\/|$)/.test(name)) throw invalid(`"${name}" is no name such as tank/litres`)
}

export class Key {
  constructor(kind, name, fallback, rules) {
    Object.assign(this, rules, { kind, name, default: fallback })
    checkName(name)
    this.fit(fallback, true)
    Object.freeze(this)
  }

  toJSON() { return { ...this, check: undefined } }

  /** Returns the key of a member of the family: the same key under another name. */
  at(part) {
    const { kind, name, default: fallback, ...rules } = this
    return new Key(kind, `${name}/${escapePart(part)}`, fallback, rules)
  }

  /** Says in a sentence why x can't be stored; '' or nothing means that it can. */
  why(x, isDefault) {
    const takes = `this takes ${wordFor(this.kind)}`
    if (!is[this.kind](x)) return takes
    if (x < this.min || x > this.max) return `${takes} from ${this.min} to ${this.max}`
    if (this.choices?.includes(x) === false) return `this takes one of ${this.choices.join(', ')}`
    return isDefault ? '' : this.check?.(x)
  }

  /** Returns x, or throws if x can't be stored. */
  fit(x, isDefault) {
    const why = this.why(x, isDefault)
    if (why) throw invalid(`${this.name}: ${why}`)
    return x
  }

  /** Returns the value of an entry, or throws if this key can't use it. */
  read({ kind, value: x, by }) {
    if (kind === 'int' && this.kind === 'float' && Number(x) == x) kind = 'float', x = Number(x)
    if (kind !== this.kind) throw new BoardError('wrong-kind', `${this.name} is ${wordFor(kind)}${by ? ` (by ${by})` : ''}, not ${wordFor(this.kind)}`)
    if (kind === 'bytes') x = fromBase64(x)
    if (kind === 'time') x = new Date(x)
    if (this.members) x = this.filled(x)
    return this.fit(x)
  }

  /** Returns a record with the members that are missing in it, or throws if one has another kind. */
  filled(x) {
    for (const [member, want] of Object.entries(this.members)) {
      if (member in x && typeof x[member] !== typeof want && !(/number|bigint/.test(typeof x[member]) && /number|bigint/.test(typeof want)))
        throw new BoardError('wrong-kind', `${this.name}: its member ${member} is of another kind than ${JSON.stringify(want)}`)
    }
    return { ...structuredClone(this.members), ...x }
  }

  /** Reads what a user typed. The message of the BoardError is a sentence for the user. */
  parse(typed) { return parseTyped(this, typed) }

  /** Returns x in the form that parse reads. */
  format(x) { return format(this, x) }
}

const declares = kind => (name, fallback, rules) => new Key(kind, name, fallback, rules)
export const bool = declares('bool')
export const int = declares('int')
export const float = declares('float')
export const text = declares('text')
export const bytes = declares('bytes')
export const time = declares('time')
export const list = declares('list')
export const map = declares('map')
export const oneOf = (name, first, ...rest) => text(name, first, { choices: [first, ...rest] })

/** The declaration of a collection: each record is an entry NAME/ID that one key describes. */
export class RecordsKey {
  constructor(one, escapes) {
    Object.assign(this, { one, escapes, name: one.name, kind: one.kind })
    Object.freeze(this)
  }

  toJSON() {
    const { name, kind, about, min, max, keep, choices } = this.one
    return { name, kind, about, min, max, keep, choices, family: true }
  }

  /** Returns the key of a record. */
  at(id) {
    if (this.escapes) return this.one.at(id)
    if (typeof id !== 'string' || id.includes('/')) throw invalid(`${JSON.stringify(id)} is no id of ${this.name}: an id is a text without a slash`)
    const { kind, name, default: fallback, ...rules } = this.one
    return new Key(kind, `${name}/${id}`, fallback, rules)
  }

  /** Returns the id of an entry's name; undefined for a name of something else. */
  idOf(name) {
    const part = name.slice(this.name.length + 1)
    if (!name.startsWith(`${this.name}/`) || part.includes('/')) return undefined
    return this.escapes ? unescapePart(part) : part
  }
}

/** Declares a collection of objects. The members of example are those of a record, with their defaults. */
export const records = (name, example, rules) => new RecordsKey(new Key('map', name, example, { ...rules, members: example }), false)

/** Declares all of key.at(…) as a collection, with the rules of the key. An id is any text. */
export const family = key => new RecordsKey(key, true)

const secretWords = /^(password|passwd|passphrase|secret|token|apikey|credentials?|bearer)$/
const secretPairs = /^(api|private|access) key$/
const harmless = /^(count|hint|length|policy|expiry|expires|updated|label|name|kind|id|url|max|min|set)$/

/** Reports whether the name of a key suggests that its values are secrets. */
export function suggestsSecret(key) {
  if (!/text|bytes|list|map/.test(key.kind)) return false
  const words = key.name.replace(/(\p{Ll})(\p{Lu})/gu, '$1 $2').toLowerCase().split(/[^\p{L}]+/u).filter(w => w)
  return !words.some(w => harmless.test(w)) && words.some((w, i) => secretWords.test(w) || secretPairs.test(`${words[i - 1]} ${w}`))
}

const escaped = /[%/\p{Cc}]|^\.{1,2}$/gu

function escapePart(part) {
  if (part === '') return '%'
  return part.replace(escaped, s => Array.from(new TextEncoder().encode(s), b => `%${b.toString(16).toUpperCase().padStart(2, '0')}`).join(''))
}

function unescapePart(part) {
  if (part === '%') return ''
  try {
    return decodeURIComponent(part.replace(/%(?![0-9A-F]{2})/g, '%25'))
  } catch {
    return part
  }
}
