// Values, names and history as the page shows them. Nothing here uses the document.

import { parse as read, tagOf } from '/small-pantry.js'

// ---- JSON with every digit ----

// A number that JavaScript would write in another form, such as 5.0 or 9007199254740993.
class Exact {
  constructor(text) { this.text = text }
  toString() { return this.text }
  valueOf() { return Number(this.text) }
}

/** Reads JSON. A number keeps every digit. */
export const parse = text => read(text, n => String(Number(n)) !== n, n => new Exact(n))

/** Writes a value as JSON, with every digit. */
export function json(x) {
  if (x instanceof Exact) return x.text
  if (Array.isArray(x)) return `[${x.map(json).join(',')}]`
  if (x && typeof x === 'object') return `{${Object.entries(x).filter(([, v]) => v !== undefined).map(([k, v]) => `${JSON.stringify(k)}:${json(v)}`).join(',')}}`
  return JSON.stringify(x)
}

/** Whether two entries have the same value of the same kind; undefined is an absent entry. */
export const same = (a, b) => a?.kind === b?.kind && (!a?.kind || json(a.value) === json(b.value))

// ---- Kinds ----

export const kinds = ['text', 'int', 'float', 'bool', 'time', 'list', 'map', 'bytes']
const words = { text: 'a text', int: 'a whole number', float: 'a number', bool: 'yes or no', time: 'a time', list: 'a list', map: 'a map', bytes: 'bytes' }
export const wordFor = kind => words[kind] ?? kind
export const isNumber = kind => kind === 'int' || kind === 'float'
export const emptyOf = kind => ({ text: '', int: 0, float: new Exact('0.0'), bool: false, list: [], map: {}, bytes: '' })[kind]

/** The tag of an entry as a condition: 0 for an absent one. */
export const tag = e => e?.kind && e.version ? tagOf(e) : '0'

/** An op of a commit. Its members are JSON already. */
export const makeOp = (op, name, members, tag) => ({ op, name, json: `{"op":"${op}","name":${JSON.stringify(name)}${members ? `,${members}` : ''}}`, if: tag })

/** The op that stores a value as it is. */
export const putOp = (name, kind, value, tag) => makeOp('put', name, `"value":${json(value)},"as":"${kind}","kind":"${kind}"`, tag)

// ---- Numbers ----

/** A number with its digits in groups of three. */
export function grouped(x) {
  const [, sign, whole, rest] = /^(-?)(\d+)(.*)$/.exec(String(x)) ?? []
  return whole === undefined ? String(x) : (sign && '−') + whole.replace(/\B(?=(\d{3})+$)/g, ',') + rest
}

/** What somebody typed as a number, without the commas and the long minus that the page shows. */
export const plainNumber = text => text.trim().replace(/^−/, '-').replace(/(\d),(?=\d{3}\b)/g, '$1')

/** Why a text is no number of a kind, in a sentence; '' if it is one. */
export function whyNoNumber(text, kind, key, amount) {
  const limits = !amount && key?.min !== undefined
  const takes = `This takes ${kind === 'int' ? 'a whole number' : 'a number'}${limits ? ` from ${grouped(key.min)} to ${grouped(key.max)}` : `, such as ${kind === 'int' ? 42 : 4.5}`}.`
  const form = kind === 'int' ? /^-?\d+$/ : /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i
  if (!form.test(text)) return takes
  return limits && (Number(text) < Number(key.min) || Number(text) > Number(key.max)) ? takes : ''
}

/** How much − and + add: 1, or a round hundredth of the range. */
export function stepOf(kind, key) {
  if (key?.min === undefined) return 1
  const hundredth = (Number(key.max) - Number(key.min)) / 100, power = 10 ** Math.floor(Math.log10(hundredth))
  const round = [5, 2, 1].find(n => n * power <= hundredth * 1.0001) * power
  return kind === 'int' ? Math.max(1, Math.round(round)) : Number(round.toPrecision(2))
}

// ---- Texts ----

/** A text in which marks that change its direction are visible. */
export const visible = text => text.replace(/[\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]/g, c => `⟨U+${c.charCodeAt(0).toString(16).toUpperCase().padStart(4, '0')}⟩`)

const start = (text, n) => text.length > n ? `${text.slice(0, n)}…` : text
const bare = x => typeof x === 'string' ? x : typeof x === 'boolean' ? (x ? 'yes' : 'no') : typeof x === 'number' || x instanceof Exact ? grouped(x) : Array.isArray(x) ? x.map(bare).join(', ') : x && typeof x === 'object' ? members(x) : 'none'
const members = x => Object.entries(x).map(([k, v]) => `${k} ${bare(v)}`).join(', ')
export const many = (n, one, more = `${one}s`) => `${grouped(n)} ${n === 1 ? one : more}`

/** An item of a list, or a member of a map, in one line. */
export const brief = (x, n = 60) => visible(start(bare(x), n))

const sizeOf = base64 => base64.length / 4 * 3 - (base64.endsWith('==') ? 2 : base64.endsWith('=') ? 1 : 0)
export const size = base64 => {
  const n = sizeOf(base64)
  return n < 10_000 ? many(n, 'byte') : n < 1e7 ? `${grouped(Math.round(n / 1024))} KiB` : `${grouped(Math.round(n / 2 ** 20))} MiB`
}

/** The media type of bytes that are a picture, by their first bytes. */
export function pictureType(base64) {
  const head = base64.slice(0, 24)
  return head.startsWith('iVBORw0KGgo') ? 'image/png' : head.startsWith('/9j/') ? 'image/jpeg' : head.startsWith('R0lGOD') ? 'image/gif' : /^UklGR.{6,8}XRUJQ/.test(head) || head.startsWith('UklGR') && atob(head.slice(0, 16)).slice(8, 12) === 'WEBP' ? 'image/webp' : ''
}

/** A value in one line. */
export function line(value, kind, now = Date.now()) {
  switch (kind) {
    case undefined: return 'nothing'
    case 'sealed': return 'sealed'
    case 'bool': return value ? 'yes' : 'no'
    case 'int': case 'float': return grouped(value)
    case 'time': return when(value, now)
    case 'bytes': return size(value)
    case 'list': return value.length ? visible(start(value.slice(0, 20).map(bare).join(', '), 200)) : 'empty'
    case 'map': return visible(start(members(value), 200)) || 'empty'
  }
  return value === '' ? 'empty' : visible(start(String(value), 300))
}

// ---- Times ----

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']
const two = n => String(n).padStart(2, '0')
const midnight = t => new Date(t).setHours(0, 0, 0, 0)
export const clock = (t, exact) => {
  const d = new Date(t)
  return `${d.getHours()}:${two(d.getMinutes())}${exact ? `:${two(d.getSeconds())}` : ''}`
}
/** The day of a moment, as people call it: '' for today. */
function day(t, now) {
  const d = new Date(t), days = Math.round((midnight(now) - midnight(t)) / 864e5)
  return days === 0 ? '' : days === 1 ? 'yesterday' : days === -1 ? 'tomorrow' : `${months[d.getMonth()]} ${d.getDate()}${d.getFullYear() === new Date(now).getFullYear() ? '' : `, ${d.getFullYear()}`}`
}
/** A moment with its day. */
export function when(t, now = Date.now()) {
  const of = day(t, now) || 'today'
  return `${of[0].toUpperCase()}${of.slice(1)}, ${clock(t)}`
}
/** A moment in the past, the shorter the older it is. */
export function age(t, now = Date.now()) {
  const at = new Date(t).getTime(), s = Math.max(0, Math.floor((now - at) / 1000)), of = day(at, now)
  if (s < 5) return 'just now'
  if (s < 60) return `${s} s ago`
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 7200) return '1 h ago'
  return !of ? clock(at) : of === 'yesterday' ? `yesterday ${clock(at)}` : of
}

// ---- Names ----

/** Sorts names as people count: bed/2 is before bed/10, and small and capital letters are together. */
export function sortNames(names) {
  if (names.some(n => /[^\x20-\x7e]/.test(n))) return names.sort(new Intl.Collator('en', { numeric: true }).compare) // it takes 10 ms to make
  const parts = new Map(names.map(n => [n, n.toLowerCase().match(/\d+|\D+/g) ?? []]))
  return names.sort((a, b) => inOrder(parts.get(a), parts.get(b)) || (a < b ? -1 : a > b ? 1 : 0))
}

function inOrder(a, b) {
  for (let i = 0; i < a.length && i < b.length; i++) {
    const x = a[i], y = b[i]
    if (x === y) continue
    const n = Number(x) - Number(y) // NaN, unless both are digits
    return n || (x < y ? -1 : 1)
  }
  return a.length - b.length
}
export const groupOf = name => name.split('/', 1)[0]

/** Puts sorted names into groups by their first part. Groups of one or two names share a row. */
export function groups(names) {
  const all = new Map()
  for (const n of names) all.has(groupOf(n)) ? all.get(groupOf(n)).push(n) : all.set(groupOf(n), [n])
  const rows = [], few = { id: ' ', firsts: [], names: [] }
  for (const [first, of] of all) of.length > 2 ? rows.push({ id: first, firsts: [first], names: of }) : (few.firsts.push(first), few.names.push(...of))
  return few.names.length ? [...rows, few] : rows
}

const folded = part => part.toLowerCase().replace(/[-_ .]/g, '').replace(/s$/, '')
/** How many letters must change, up to 2; two neighbours that change places are one. */
function distance(a, b) {
  if (Math.abs(a.length - b.length) > 1) return 2
  let i = 0
  while (i < a.length && a[i] === b[i]) i++
  let j = 0
  while (j < Math.min(a.length, b.length) - i && a.at(-1 - j) === b.at(-1 - j)) j++
  const x = a.slice(i, a.length - j), y = b.slice(i, b.length - j)
  return x.length < 2 && y.length < 2 ? Math.max(x.length, y.length) : x.length === 2 && x === y[1] + y[0] ? 1 : 2
}
/** The first of the names that is nearly the same as a name, or undefined. */
export function near(name, names) {
  const parts = name.split('/')
  return names.find(n => {
    const others = n.split('/')
    if (n === name || others.length !== parts.length) return false
    const differing = parts.map((p, i) => [p, others[i]]).filter(([p, o]) => p !== o)
    if (differing.length !== 1) return differing.every(([p, o]) => folded(p) === folded(o))
    const [p, o] = differing[0]
    return folded(p) === folded(o) || Math.min(p.length, o.length) >= 5 && !/\d/.test(p + o) && distance(p.toLowerCase(), o.toLowerCase()) < 2
  })
}

// ---- History ----

/** The changes of each name, newest first. */
export function changesByName(commits) {
  const all = new Map()
  for (const c of commits) for (const change of c.changes ?? []) {
    const one = { ...change, at: Date.parse(c.at), version: c.version, by: c.by ?? '', over: c.over }
    all.has(change.name) ? all.get(change.name).push(one) : all.set(change.name, [one])
  }
  return all
}

/** The entry as it was at a time: undefined if nothing was stored. changes are newest first. */
export function entryAt(present, changes = [], time) {
  let i = 0
  while (i < changes.length && changes[i].at > time) i++
  const at = changes[i], next = changes[i - 1]
  if (i === 0) return present
  if (at) return at.new_kind && { name: at.name, kind: at.new_kind, value: at.new, updated: new Date(at.at).toISOString(), by: at.by, version: at.version }
  return next.old_kind && { name: next.name, kind: next.old_kind, value: next.old }
}

/** Whether a time is older than all that the commits show. */
export const isOlder = (commits, more, time) => !!more && (!commits.length || time < Date.parse(commits.at(-1).at))

/** Adds newer or older commits, newest first. What was built from single changes is replaced by what the server says. */
export function merged(commits, got) {
  if (!got.length) return commits
  const [newest, oldest] = [got[0].version, got.at(-1).version]
  return [...commits.filter(c => c.version > newest), ...got, ...commits.filter(c => c.version < oldest)]
}

/** Folds runs of changes of a number that came quickly one after the other: {runs: [change…]}. */
export function fold(changes) {
  const out = []
  for (let i = 0; i < changes.length;) {
    let end = i + 1
    while (end < changes.length && i > 1 && foldable(changes[end - 1], changes[end])) end++
    out.push(end - i > 3 ? changes.slice(i, end) : changes.slice(i, i + 1))
    i = end - i > 3 ? end : i + 1
  }
  return out
}
const foldable = (a, b) => [a.new_kind, a.old_kind, b.new_kind, b.old_kind].every(isNumber) && a.at - b.at <= 60 * 60_000

/** The points of a number over a time, oldest first: [[ms, value, change]…]. */
export function points(present, changes = [], from, to) {
  const all = []
  for (const c of changes) {
    if (c.at > to) continue
    if (c.at < from) { if (isNumber(c.new_kind)) all.push([from, Number(c.new), c]); break }
    if (isNumber(c.new_kind)) all.push([c.at, Number(c.new), c])
    if (c === changes.at(-1) && isNumber(c.old_kind)) all.push([from, Number(c.old)])
  }
  if (!all.length && isNumber(present?.kind)) all.push([from, Number(present.value)])
  return all.reverse()
}

/** The path of a line in steps, in a box of a width and a height. */
export function stepPath(all, from, to, width, height) {
  if (all.length < 2) return ''
  const values = all.map(p => p[1]), least = Math.min(...values), range = Math.max(...values) - least
  if (!range) return ''
  const x = t => Math.round((t - from) / (to - from) * width), y = v => Math.round(height - 2 - (v - least) / range * (height - 4))
  return all.map(([t, v], i) => i ? `H${x(t)}V${y(v)}` : `M${x(t)} ${y(v)}`).join('') + `H${width}`
}

export const ranges = { hour: 36e5, day: 864e5, month: 30 * 864e5 }

/** Marks for the hours, days or quarters of an hour between two times: [[ms, label]…]. */
export function marks(from, to, range, most = 5) {
  const step = { hour: 9e5, day: 6 * 36e5, month: 7 * 864e5 }[range], all = []
  const d = new Date(from)
  range === 'hour' ? d.setMinutes(0, 0, 0) : d.setHours(0, 0, 0, 0)
  for (let t = d.getTime(); t < to; t += step) if (t >= from && t < to - (to - from) / 12) all.push([t, range === 'month' ? day(t, to) || 'today' : clock(t)])
  return all.slice(0, most)
}

// ---- Editing: a value as parts that a person can change ----

/** A value as nodes for an editor, which can be kept as JSON. */
export function toNode(x) {
  if (x === null || x === undefined) return { k: 'null' }
  if (typeof x === 'boolean') return { k: 'bool', v: x }
  if (typeof x === 'number' || x instanceof Exact) return { k: 'number', v: String(x), float: /[.e]/i.test(String(x)) }
  if (typeof x === 'string') return { k: 'text', v: x }
  if (Array.isArray(x)) return { k: 'list', v: x.map(toNode) }
  return { k: 'map', v: Object.entries(x).map(([name, v]) => ({ name, node: toNode(v) })) }
}

/** A node of the same kind without a value: what a new item of a list begins as. */
export const blankLike = node => !node ? { k: 'text', v: '' } : node.k === 'list' ? { k: 'list', v: [] } : node.k === 'map' ? { k: 'map', v: node.v.map(m => ({ name: m.name, node: blankLike(m.node) })) } : node.k === 'bool' ? { k: 'bool', v: false } : { ...node, v: '' }

/** The JSON of a node. It throws a sentence for what can't be stored. */
export function fromNode(node) {
  switch (node.k) {
    case 'null': return 'null'
    case 'bool': return String(node.v)
    case 'text': return JSON.stringify(node.v)
    case 'list': return `[${node.v.map(fromNode).join(',')}]`
    case 'map': {
      const names = node.v.map(m => m.name)
      const twice = names.find((n, i) => names.indexOf(n) !== i)
      if (twice !== undefined) throw `Two members are called “${twice}”. Give one of them another name.`
      return `{${node.v.map(m => `${JSON.stringify(m.name)}:${fromNode(m.node)}`).join(',')}}`
    }
  }
  const text = plainNumber(node.v), why = whyNoNumber(text, 'float')
  if (why) throw why
  return node.float && /^-?\d+$/.test(text) ? `${text}.0` : text.replace(/^(-?)0+(?=\d)/, '$1')
}

/** What an op does, for a note on its card. */
export function opText(op) {
  const o = parse(op.json)
  switch (o.op) {
    case 'put': return o.typed !== undefined && o.kind !== 'time' ? (isNumber(o.kind) ? grouped(o.typed) : line(o.typed, o.kind === 'bytes' ? 'bytes' : 'text')) : line(o.value ?? o.typed, o.kind)
    case 'drop': return 'removed'
    case 'add': return Number(o.amount) < 0 ? grouped(o.amount) : `+${grouped(o.amount)}`
    case 'append': return `+ ${brief(o.item)}`
    case 'remove': return `− ${brief(o.item)}`
    case 'take': return 'the first taken'
    case 'raise': return `at least ${grouped(o.to)}`
    case 'lower': return `at most ${grouped(o.to)}`
  }
  return o.op
}
