// Operations on an entry: how they are sent, and what they make of a value.

import { invalid } from './errors.js'
import { write } from './json.js'
import { is } from './kinds.js'

/** Reports whether an op stores or removes a whole value. */
export const isPut = op => op.op === 'put' || op.op === 'drop'

/** Returns the tag of an entry, for the condition of an op. */
export const tagOf = e => e?.kind ? `${e.version}-${Date.parse(e.updated)}` : '0'

/** Returns the JSON of an op with its condition, or with the tag that its writer has seen. */
export function sentForm(op) {
  const tag = op.if ? 'if' : op.seen ? 'seen' : ''
  return tag ? `${op.json.slice(0, -1)},"${tag}":"${op[tag]}"}` : op.json
}

/** Returns the functions that make ops on the entry of a key. They throw for what the key refuses. */
export function opsOf(key) {
  const { name, kind, default: start, min, max, keep } = key
  const make = (op, args, more) => ({ op, name, args, json: write({ op, name, ...more, ...args }, kind) })
  const number = x => /int|float/.test(kind) && is[kind](x) ? x : key.fit(NaN)
  const ops = {
    set: x => make('put', { value: key.fit(x) }, { as: kind, kind }),
    setIf(seen, x) {
      if (!seen?.tag) throw invalid(`setIf of ${name} takes what state() returned`)
      if (seen.phase === 'unknown') throw invalid(`the server has not answered yet what is stored under ${name}: wait for ready()`)
      return { ...ops.set(x), if: seen.tag }
    },
    clear: () => make('drop'),
    add: n => make('add', { amount: number(n) }, { start, min, max }),
    raise: n => make('raise', { to: key.fit(n) }, { start }),
    lower: n => make('lower', { to: key.fit(n) }, { start }),
    append: (item, how = {}) => make('append', { item, unique: how.unique }, { start, keep }),
    remove: (item, how = {}) => make('remove', { item, all: how.all }, { start }),
    take: at => make('take', { at: at ?? 0 }, { start }),
  }
  return ops
}

/** Returns what an op makes of a value; undefined means absent. An op whose result is not known changes nothing. */
export function apply(op, now, key) {
  const { args } = op, old = now ?? key.default
  switch (args && op.op) {
    case 'put': return args.value
    case 'add': return typeof old === typeof args.amount ? old + args.amount : narrow(BigInt(old) + BigInt(args.amount))
    case 'raise': return args.to > old ? args.to : old
    case 'lower': return args.to < old ? args.to : old
    case 'append': {
      const has = args.unique && old.some(x => same(x, args.item)), all = has ? old : [...old, args.item]
      return key.keep ? all.slice(-key.keep) : all
    }
    case 'remove': {
      const first = old.findIndex(x => same(x, args.item))
      return old.filter((x, i) => args.all ? !same(x, args.item) : i !== first)
    }
  }
  return op.op === 'drop' ? undefined : now
}

const same = (a, b) => write(a) === write(b)
const narrow = n => Number.isSafeInteger(Number(n)) ? Number(n) : n
