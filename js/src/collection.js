// A collection of records on a board. Each record is an entry.

import { invalid } from './errors.js'
import { Variable } from './variable.js'

export class Collection {
  #core
  #bad = new Map() // entries that can't be used, which were reported

  constructor(core, key) {
    this.#core = core
    this.key = key
  }

  get #prefix() { return `${this.key.name}/` }

  /** Returns the known records by id: ids that are numbers first, by size, then the others by their order. */
  all() {
    const all = []
    for (const [name, e] of this.#core.known(this.#prefix)) {
      const id = this.key.idOf(name), x = id === undefined ? undefined : this.#read(id, e)
      if (x !== undefined) all.push([id, x])
    }
    return new Map(all.sort(([a], [b]) => compareIDs(a, b)))
  }

  get size() { return this.all().size }

  #read(id, e) {
    try {
      return this.key.at(id).read(e)
    } catch (bad) {
      if (this.#bad.get(e.name) !== e.version) this.#core.problem(bad)
      this.#bad.set(e.name, e.version)
      return undefined
    }
  }

  /** Returns a record as far as is known, else the default of its key. */
  get(id) {
    const key = this.key.at(id), e = this.#core.view.entry(key.name)
    return (e?.kind ? this.#read(id, e) : undefined) ?? structuredClone(key.default)
  }

  /** Returns one record as a variable. */
  at(id) { return new Variable(this.#core, this.key.at(id)) }

  /** The known records in the order of compare, as [id, record]. */
  sorted(compare) { return [...this.all()].sort(([, a], [, b]) => compare(a, b)) }

  lookup(id, how) { return this.at(id).lookup(how) }

  /** Stores a new record and returns its id. It needs no network: an error with the code queued has the id too. */
  async add(x, how) {
    const id = newID()
    try {
      await this.put(id, x, how)
    } catch (e) {
      throw Object.assign(e, e.code === 'queued' && { id })
    }
    return id
  }

  async put(id, x, how) { await this.at(id).set(x, how) }

  /** Stores what f makes of a record. It rejects with absent if there is none. */
  async update(id, f, how) {
    const v = this.at(id), { found } = await v.lookup(how)
    if (!found) throw Object.assign(invalid(`there is no record ${id} of ${this.key.name}`), { code: 'absent' })
    return v.update(f, how)
  }

  /** Removes records in one commit. Ids without a record are ignored. */
  async drop(...ids) {
    let ops = ids.map(id => this.at(id).op.clear())
    while (ops.length) {
      try {
        return void await this.#core.commit(ops, undefined, 'drop')
      } catch (e) {
        if (e.code !== 'absent' || !(e.at >= 0)) throw e
        ops = ops.filter((_, i) => i !== e.at)
      }
    }
  }

  async clear(how) { await this.#core.commit([{ op: 'reset', name: '', prefix: this.#prefix, json: JSON.stringify({ op: 'reset', prefix: this.#prefix }) }], how, 'clear') }

  /** Calls f with all records as soon as they are known, and after each change, with the ids that changed. */
  watch(f) {
    if (!f) return this.#core.iterate(f => this.watch(all => f(all)))
    return this.#core.watchPrefix(this.#prefix, changed => {
      const ids = [...changed.keys()].map(name => this.key.idOf(name)).filter(id => id !== undefined)
      f(this.all(), ids.sort(compareIDs))
    }, true)
  }

  /** Calls f for each record that is there, with first, and then for each that was added, changed or removed. */
  changes(f) {
    const known = new Map() // by id: the record and the version that changed it
    let first = true
    return this.watch((all, ids) => {
      for (const id of ids) {
        const before = known.get(id), now = all.get(id), version = this.#core.view.entry(this.key.at(id).name)?.version
        if (!before && now === undefined || before && now !== undefined && before.version === version) continue
        now === undefined ? known.delete(id) : known.set(id, { x: now, version })
        f(id, { old: before?.x, now, first })
      }
      first = false
    })
  }
}

const isNumber = id => /^\d+$/.test(id)

export function compareIDs(a, b) {
  if (isNumber(a) && isNumber(b)) return a.length - b.length || (a < b ? -1 : 1)
  if (isNumber(a) !== isNumber(b)) return isNumber(a) ? -1 : 1
  return a < b ? -1 : 1
}

const digits = '0123456789abcdefghijklmnopqrstuv'
let last = 0n

/** Returns an id: 48 bits of the time and 80 random ones, as 26 characters whose order is that of time. */
function newID() {
  let id = BigInt(Date.now()) << 80n
  for (const b of crypto.getRandomValues(new Uint8Array(10))) id = (id & ~0xffffffffffffffffffffn) | ((id << 8n | BigInt(b)) & 0xffffffffffffffffffffn)
  if (id <= last) id = last + 1n // in the same millisecond, or the clock was set back
  last = id
  let text = ''
  for (let i = 0n, rest = id << 2n; i < 26n; i++, rest >>= 5n) text = digits[Number(rest & 31n)] + text
  return text
}
