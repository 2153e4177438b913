// What waits to be sent. Each change lies in IndexedDB with the instance under which it counts once,
// whichever page sends it. One page of a link sends; the others hear what became of their changes.

import { BoardError, unsure } from './errors.js'
import { entryOf } from './view.js'
import { draw } from './json.js'
import { apply, isPut, tagOf } from './ops.js'

const puts = (item, name) => item.ops.some(o => isPut(o) && o.name === name)

export class Outbox {
  items = []

  #storage
  #board
  #channel
  #opened
  #wake = () => {}
  #out = 0 // the id of the change that this page sends
  #busy = 0 // the one that another page sends
  #making = new Set() // changes of this page that are neither stored nor queued yet
  #unseen = new Map() // by name: an own change that the view does not show yet: { shown, now, version }

  /** board: { connection, view, send(item, signal), away(), keyOf(name), mine(entry), changed(names), problem(e) } */
  constructor(storage, board) {
    this.#storage = storage
    this.#board = board
    const { place, who, over } = board.connection, name = `small-pantry ${place}`
    this.#channel = new BroadcastChannel(name)
    this.#channel.onmessage = ({ data }) => {
      this.#busy = data.busy ?? 0
      this.#load().then(() => {
        this.#wake()
        board.changed()
      }, board.problem)
    }
    over.signal.addEventListener('abort', () => this.#channel.close())
    this.#opened = this.#load().catch(board.problem)
    const locks = globalThis.navigator?.locks, run = () => this.#run()
    this.#opened.then(() => {
      board.changed()
      return locks ? locks.request(`${name} ${who}`, { signal: over.signal }, run) : run()
    }).catch(() => {}) // closed
  }

  wake() { this.#wake() }

  /** Returns the changes of a name that were made with this link. */
  about(name) { return this.items.filter(i => this.#ours(i) && i.ops.some(o => o.name === name)) }

  /** Returns the tag that the next change of a name is based on: of what the view shows, or of an own change that it does not show yet. */
  base(name) {
    const { view } = this.#board, shown = tagOf(view.entry(name)), own = this.#unseen.get(name)
    if (own && parseInt(view.mark) >= own.version) this.#unseen.delete(name)
    else if (own?.shown === shown) return own.now
    return shown
  }

  /** Returns the oldest change that waits to be sent, when that is known. */
  async waits() {
    await this.#opened
    return this.#waiting()
  }

  /** A change is being made. Queued changes of its names wait for its end, since they may be based on it. */
  begin(item) { this.#making.add(item) }

  end(item) {
    this.#making.delete(item)
    this.#wake()
  }

  #held(item) {
    return [...this.#making].some(m => m.instance === item.instance && m.ops.some(o => item.ops.some(i => i.name === o.name)))
  }

  #ours(item) { return item.who === this.#board.connection.who }

  #waiting() { return this.items.find(i => !i.code && this.#ours(i)) }

  async #load(f) {
    this.items = await this.#storage.queue(f)
    for (const i of this.items) if (i.code) i.error = new BoardError(i.code, i.sentence)
  }

  #changed(names) {
    this.#channel.postMessage({ busy: this.#out })
    this.#board.changed(names)
  }

  /** Stores a change, and throws what says that it is queued. base are the tags that it is based on, by name. */
  async add(item, base) {
    try {
      await this.#load((store, all) => {
        const last = all.filter(i => this.#ours(i)).at(-1)
        const only = i => i.ops.length === 1 && isPut(i.ops[0]) && i.ops[0].name
        if (!item.sent) item.ops = item.ops.map(o => isPut(o) && !o.if ? { ...o, if: base[o.name] } : o)
        const merges = last && !last.sent && !last.code && !item.sent && last.instance === item.instance && only(item) && only(item) === only(last)
        store.put(merges ? { ...last, verb: item.verb, ops: item.ops } : item)
      })
    } catch (e) {
      throw new BoardError('unreachable', `the board can't be reached, and the change could not be kept: ${e.message ?? e}`)
    }
    this.#changed(item.ops.map(o => o.name))
    this.#wake()
    throw new BoardError('queued', 'the board can\'t be reached; the change is kept, and will be sent')
  }

  async #run() {
    const { over } = this.#board.connection
    for (let pause = 1000; !over.signal.aborted;) {
      const next = this.#waiting()
      if (next && !this.#held(next) && !this.#board.away() && await this.#send(next.id).catch(this.#board.problem)) {
        pause = 1000
        continue
      }
      await new Promise(done => {
        this.#wake = done
        if (this.#waiting()) setTimeout(done, pause)
      })
      pause = Math.min(2 * pause, 30_000)
    }
  }

  /** Sends a change. It returns false if the change still waits. */
  async #send(id) {
    const { connection, view } = this.#board
    let item, first, page, bad, before = {}
    const checked = await this.#check(this.items.find(i => i.id === id))
    if (checked === false) return false
    await this.#load((store, all) => {
      item = all.find(i => i.id === id && !i.code)
      if (!item) return
      for (const o of item.ops) before[o.name] = { mark: view.mark, tag: tagOf(view.entries.get(o.name)) }
      first = !item.sent
      if (!first) return
      if (checked?.if) item.ops[0].if = checked.if
      store.put(Object.assign(item, { sent: true, since: view.mark }))
    })
    if (!item) return true
    this.#out = id
    this.#channel.postMessage({ busy: id })
    try {
      if (checked?.error) throw checked.error
      page = await this.#board.send({ ...item, sent: !first }, connection.over.signal)
    } catch (e) {
      if (connection.closed) return true
      if (unsure(e) || e.code === 'unauthorized') return false // it says nothing about the change
      const asItShouldBe = e.code === 'absent' && item.verb === 'clear'
      if (!asItShouldBe) bad = e
      if (checked && e.code === 'conflict') { // it was not done: check it again
        await this.#load(store => store.put({ ...item, sent: false, since: undefined, key: draw(), ops: item.ops.map(o => ({ ...o, if: undefined })) }))
        return true
      }
    } finally {
      this.#out = 0
    }
    if (page && item.instance === connection.instance) for (const e of page.entries.concat(page.gone)) this.#see(item, page, e, before[e.name])
    await this.#load((store, all) => {
      if (bad) return all.some(i => i.id === id) && store.put({ ...item, code: bad.code, sentence: bad.message, theirs: bad.stored })
      store.delete(id)
      for (const e of page ? page.entries.concat(page.gone) : []) this.#rebase(store, all, item, page, e, before[e.name])
    })
    if (bad) this.#board.problem(bad)
    this.#changed(item.ops.map(o => o.name))
    return true
  }

  /** Updates the base of queued changes after one that was not queued. */
  async stored(item, page, before) {
    for (const e of page.entries.concat(page.gone)) this.#see(item, page, e, before[e.name])
    if (!this.items.some(i => i.instance === item.instance && !i.sent)) return
    await this.#load((store, all) => {
      for (const e of page.entries.concat(page.gone)) this.#rebase(store, all, { ...item, id: 0 }, page, e, before[e.name])
    }).catch(this.#board.problem) // the queued change is then refused as a conflict, and kept
  }

  /** Reports whether another change may have come between an own one and what it was based on. */
  #overtaken(item, page, e, before) {
    return puts(item, e.name) ? e.kind && e.version !== page.version && !this.#board.mine(e) : page.repeated || page.since !== before?.mark
  }

  /** Notes what an own change stored, if the view does not show that. */
  #see(item, page, e, before) {
    const { view } = this.#board, base = this.base(e.name)
    if (!view.has(e.name) || parseInt(view.mark) >= page.version || this.#overtaken(item, page, e, before) || !puts(item, e.name) && base !== before?.tag) return
    this.#unseen.set(e.name, { shown: tagOf(view.entry(e.name)), now: tagOf(e), version: page.version })
  }

  /** Bases later changes of this page on an own change, if no other change came between. */
  #rebase(store, all, item, page, e, before) {
    if (this.#overtaken(item, page, e, before)) return
    const put = puts(item, e.name)
    for (const i of all) {
      if (i.id <= item.id || i.sent || i.instance !== item.instance) continue
      const op = i.ops.find(o => o.name === e.name && o.if && (put || o.if === before?.tag))
      if (!op) continue
      op.if = tagOf(e)
      store.put(i)
    }
  }

  /**
   * Applies an operation on a key with a check to the stored value, before it is sent first. It returns
   * the condition under which the result passes, or the error; undefined means nothing to check, and
   * false that the server can't be asked.
   */
  async #check(item) {
    const op = item?.ops[0], key = op && this.#board.keyOf(op.name)
    if (!item || item.sent || item.ops.length > 1 || isPut(op) || !op.args || op.op === 'take' || !key?.check) return undefined
    let e
    try {
      e = entryOf(await this.#board.connection.page({ method: 'GET', path: '/entries', query: { name: op.name } }), op.name)
    } catch {
      return false
    }
    try {
      key.fit(apply(op, e && key.read(e), key))
    } catch (error) {
      return { error }
    }
    return { if: tagOf(e) }
  }

  async list() {
    await this.#opened
    return this.items.map(i => {
      const put = i.ops.length === 1 && i.ops[0].op === 'put' ? i.ops[0] : undefined
      return { ...i, other: !this.#ours(i), mine: put?.args?.value, theirs: i.theirs }
    })
  }

  async discard(id) {
    if (this.#out === id || this.#busy === id) throw new BoardError('busy', 'the change is being sent; try again in a while')
    const names = this.items.find(i => i.id === id)?.ops.map(o => o.name)
    await this.#load(store => store.delete(id))
    this.#changed(names)
  }

  /** Sends a refused change again as the user's decision, or takes over one of another link that certainly did not arrive. */
  async retry(id) {
    await this.#opened
    const { who, instance } = this.#board.connection
    let bad
    await this.#load((store, all) => {
      const item = all.find(i => i.id === id)
      if (!item) bad = new BoardError('absent', 'there is no such change')
      else if (!this.#ours(item) && item.sent) bad = new BoardError('conflict', 'the change may have arrived with the link that it was made with')
      else if (item.code || !this.#ours(item)) {
        const ops = item.ops.map(o => isPut(o) && item.code ? { ...o, if: undefined, seen: undefined } : o)
        store.put({ ...item, ops, who, instance, key: draw(), sent: false, since: undefined, code: undefined, sentence: undefined, error: undefined, theirs: undefined })
      }
    })
    if (bad) throw bad
    this.#changed()
    this.#wake()
  }

  /** Returns the value of an entry after all changes that wait. */
  after(name, now, key) {
    for (const item of this.about(name)) {
      if (item.code) continue
      for (const op of item.ops) if (op.name === name) now = apply(op, now, key)
    }
    return now
  }
}
