// A key on a board.

import { invalid } from './errors.js'
import { apply, opsOf, tagOf } from './ops.js'
import { entryOf } from './view.js'

const mostTries = 8 // of a change that somebody else was faster than

export class Variable {
  #core
  #cache = {} // the entry that was read last, with its value or why it can't be used

  /** core is the Core of the board. */
  constructor(core, key) {
    this.#core = core
    this.key = key
    this.op = opsOf(key)
  }

  get name() { return this.key.name }

  get() { return this.state().value }

  state() {
    const { view, outbox, transports, connection } = this.#core, { name, key } = this
    const node = this.#core.node(name), e = view.entry(name), found = !!e?.kind
    const waiting = outbox?.about(name) ?? [], queued = waiting.filter(i => !i.code).length
    const refused = node.refused ?? waiting.find(i => i.error)?.error
    if (found && this.#cache.e !== e) this.#read(e)
    const bad = found ? this.#cache.bad : undefined
    const value = structuredClone(found && !bad ? this.#cache.value : key.default)
    const s = {
      value, found, version: e?.version ?? 0, updated: e?.updated && new Date(e.updated), by: e?.by ?? '', mine: this.#core.isMine(e),
      queued, waiting: queued ? structuredClone(outbox.after(name, found && !bad ? this.#cache.value : undefined, key) ?? key.default) : value,
      error: transports.error, tag: tagOf(e), asOf: e && this.#core.asOf,
    }
    s.phase = node.sending ? 'sending' : queued ? 'queued' : refused ? 'refused' : !e ? 'unknown' : s.error || view.isOld(name) ? 'stale' : 'current'
    if (s.phase === 'refused') s.error = refused
    if (bad) {
      s.phase = 'unreadable'
      s.error = bad
    }
    return s
  }

  #read(e) {
    this.#cache = { e }
    try {
      this.#cache.value = this.key.read(e)
    } catch (bad) {
      this.#cache.bad = bad
      this.#core.problem(bad)
    }
  }

  async lookup(how) {
    const e = await this.#stored(how)
    return { value: this.#valueOf(e), found: !!e }
  }

  /** Asks the server for the entry. */
  async #stored(how) { return entryOf(await this.#core.connection.page({ method: 'GET', path: '/entries', query: { name: this.name }, ...how }), this.name) }

  #valueOf(e) { return e ? this.key.read(e) : structuredClone(this.key.default) }

  #refuse(error) {
    this.#core.node(this.name).refused = error
    this.#core.changed([this.name])
  }

  /** Returns an op, or refuses what the key refuses. */
  #made(verb, args) {
    try {
      return this.op[verb](...args)
    } catch (e) {
      this.#refuse(e)
      throw e
    }
  }

  /** Makes an operation and returns the value that it made. */
  async #operate(verb, args, how) {
    const op = this.#made(verb, args)
    const page = this.key.check ? await this.#checked(op, verb, how) : await this.#core.commit([op], how, verb)
    return this.#valueOf(entryOf(page, this.name))
  }

  /** Makes an operation on a key with a check, which no operation carries, on condition that the value it was checked with is still stored. */
  async #checked(op, verb, how) {
    const { view, outbox, transports } = this.#core
    const offline = outbox && (transports.error || await outbox.waits())
    let e = view.entry(this.name)
    if (!offline && (!e || transports.error || view.isOld(this.name))) e = await this.#stored(how)
    for (let tries = 1; ; tries++) {
      try {
        this.key.fit(apply(op, e?.kind && this.key.read(e), this.key))
      } catch (bad) {
        this.#refuse(bad)
        throw bad
      }
      try {
        return await this.#core.commit([offline ? op : { ...op, if: tagOf(e) }], how, verb)
      } catch (bad) {
        if (bad.code !== 'conflict' || tries === mostTries) throw bad
        e = bad.stored
      }
    }
  }

  async set(x, how) { await this.#core.commit([this.#made('set', [x])], how, 'set') }
  async setIf(seen, x, how) { await this.#core.commit([this.#made('setIf', [seen, x])], how, 'setIf') }

  async clear(how) {
    try {
      await this.#core.commit([this.op.clear()], how, 'clear')
    } catch (e) {
      if (e.code !== 'absent') throw e
      this.#refuse()
    }
  }

  add(n, how) { return this.#operate('add', [n], how) }
  raise(n, how) { return this.#operate('raise', [n], how) }
  lower(n, how) { return this.#operate('lower', [n], how) }
  append(item, how) { return this.#operate('append', [item, how], how) }

  async remove(item, how) {
    try {
      return await this.#operate('remove', [item, how], how)
    } catch (e) {
      if (e.code !== 'absent') throw e
      this.#refuse()
      return structuredClone(this.key.default)
    }
  }

  async take(at, how) {
    try {
      const page = await this.#core.commit([this.#made('take', [at])], how, 'take', true)
      return { item: page.results[0].taken, found: true }
    } catch (e) {
      if (e.code !== 'absent') throw e
      this.#refuse()
      return { found: false }
    }
  }

  async update(f, how) {
    let e = await this.#stored(how)
    for (let tries = 1; ; tries++) {
      const next = await f(this.#valueOf(e))
      try {
        await this.#core.commit([this.#made('setIf', [{ tag: tagOf(e) }, next])], how, 'update', true)
        return next
      } catch (bad) {
        if (bad.code !== 'conflict' || tries === mostTries) throw bad
        e = bad.stored
      }
    }
  }

  watch(f) {
    if (!f) return this.#core.iterate(f => this.watch(f))
    if (typeof f !== 'function') throw invalid('watch takes a function')
    return this.#core.watching(n => n === this.name, () => f(this.state()))
  }
}
