// The client of a board.

import { Collection } from './collection.js'
import { Connection, delay } from './connection.js'
import { BoardError, invalid, unsure } from './errors.js'
import { draw, write } from './json.js'
import { Key, RecordsKey, suggestsSecret } from './keys.js'
import { sentForm, tagOf } from './ops.js'
import { Outbox } from './outbox.js'
import { Storage } from './storage.js'
import { Transports } from './transports.js'
import { Variable } from './variable.js'
import { View } from './view.js'

const page = globalThis.document
const mostCatchUp = 3 // how often a write requests the state if its own answer is too old
const mostPairs = 1000 // pairs of names that are reported
const saveAfter = 1000 // ms until what is known is stored

/** What the variables and collections of a board share. */
class Core {
  view = new View()
  asOf = undefined // when the server last confirmed what is known
  keys = new Map() // by name, those with a check

  #nodes = new Map() // by name: { sending, refused }
  #watchers = new Set()
  #pairs = new Set()
  #used = new Map() // by name: the key that was used first; '' once another one was reported
  #declared = false
  #from // this page's instance, as others see it
  #dirty = new Set()
  #saving

  constructor(link, options) {
    const { declare = [], offline, onProblem = e => console.warn(e) } = options
    this.declare = declare
    this.onProblem = onProblem
    this.connection = new Connection(link, options)
    this.transports = new Transports(this.connection, this.view, { ...options, beat: page ? 5 : 15 }, {
      take: (asked, answer) => this.take(asked, answer), answered: () => this.#answered(), changed: () => this.changed(), problem: e => this.problem(e),
    })
    if (page?.hidden) this.transports.paused = true
    if (offline) {
      this.storage = new Storage(this.connection.place, this.connection.who)
      this.outbox = new Outbox(this.storage, {
        connection: this.connection, view: this.view, send: (item, signal) => this.send(item, signal), keyOf: name => this.keys.get(name),
        away: () => !this.transports.paused && unsure(this.transports.error), mine: e => this.isMine(e), changed: names => this.changed(names), problem: e => this.problem(e),
      })
      this.storage.known().then(({ entries, asOf }) => {
        if (this.view.mark) return
        this.view.old = entries
        this.asOf = asOf
        this.changed([...entries.keys()])
      }, () => {}) // the outbox has reported it
    }
    if (this.connection.plain) setTimeout(() => this.problem(new BoardError('plain', 'the link is http: others can read and change what is sent')))
    if (declare.length) this.transports.start()
  }

  safely(f, ...args) {
    try {
      f(...args)
    } catch (e) {
      setTimeout(() => { throw e }) // it is the app's
    }
  }

  /** Reports, once for each name, mistakes that need no list of keys to be found. */
  firstUse(key) {
    const form = JSON.stringify({ ...key.toJSON(), about: undefined }, (_, x) => typeof x === 'bigint' ? `${x}n` : x), id = key.name + (key.one ? '/' : ''), before = this.#used.get(id)
    if (before === undefined) {
      this.#used.set(id, form)
      if (suggestsSecret(key) && !this.declare.some(k => k.name === key.name)) this.problem(new BoardError('secret', `the name ${key.name} suggests a secret, and everybody with a link to the board could read it: keep it on the device`, { about: key.name }))
    } else if (before && before !== form) {
      this.#used.set(id, '')
      this.problem(new BoardError('twice', `two keys have the name ${key.name}, and differ: was a line copied? Declare the key once, and use its variable`, { about: key.name }))
    }
  }

  problem(e) { if (!this.connection.closed) this.safely(this.onProblem, e) }

  node(name) {
    if (!this.#nodes.has(name)) this.#nodes.set(name, { sending: 0 })
    return this.#nodes.get(name)
  }

  isMine(e) { return !!this.#from && e?.from === this.#from }

  /** Calls the watchers of names, or of anything. */
  changed(names) {
    for (const w of this.#watchers) if (!names || names.some(w.wants)) this.safely(w.tell, names ?? [])
  }

  watching(wants, tell, end) {
    const w = { wants, tell }
    this.#watchers.add(w)
    this.transports.start()
    this.safely(tell, [])
    return () => { if (this.#watchers.delete(w)) end?.() }
  }

  stopWatching() { this.#watchers.clear() }

  /** Yields the newest of what watch calls back with. */
  async* iterate(watch) {
    const { signal } = this.connection.over
    let fresh = [], ring
    const wake = () => ring?.()
    const stop = watch(x => {
      fresh = [x]
      wake()
    })
    signal.addEventListener('abort', wake)
    try {
      while (!signal.aborted) {
        if (fresh.length) yield fresh.pop()
        else await new Promise(f => { ring = f })
      }
    } finally {
      stop()
      signal.removeEventListener('abort', wake)
    }
  }

  /** Returns the known entries whose names begin with a prefix. */
  known(prefix) {
    const all = new Map()
    for (const from of this.view.mark ? [this.view.entries] : [this.view.old, this.view.entries]) {
      for (const [name, e] of from) if (name.startsWith(prefix)) e.kind ? all.set(name, e) : all.delete(name)
    }
    return all
  }

  /** Calls f with what is known of names, and then with what changed. Where later is set, f is first called when the server has answered, or with what was known in an earlier visit. */
  watchPrefix(prefix, f, later) {
    const wants = n => n.startsWith(prefix), { view } = this
    if (view.bindPrefix(prefix)) this.transports.kick()
    let told = false
    return this.watching(wants, changed => {
      if (later && !told && !view.mark && !view.old.size) return
      const those = told ? changed.filter(wants) : [...this.known(prefix).keys()]
      if (told && !those.length) return
      told = true
      f(new Map(those.map(n => [n, view.entry(n)?.kind ? view.entry(n) : undefined])))
    }, () => {
      view.unbindPrefix(prefix)
      this.transports.kick()
    })
  }

  /** Applies an answer: see View.take. */
  take(asked, answer) {
    this.reportNear(answer)
    const changed = this.view.take(asked, answer)
    for (const name of changed ?? []) if (this.#nodes.has(name)) this.node(name).refused = undefined
    if (changed) this.#keep(changed)
    if (changed?.size) this.changed([...changed])
    return changed
  }

  reportNear({ findings }) {
    for (const { name, near, by } of findings ?? []) {
      const pair = `${name} ${near}`
      if (this.#pairs.has(pair) || this.#pairs.size >= mostPairs) continue
      this.#pairs.add(pair)
      this.problem(new BoardError('near', `the name ${name} nearly matches ${near}${by ? `, by ${by}` : ''}, which is on the board: is one of them misspelt?`, { about: name, near }))
    }
  }

  /** Stores what is known soon, for a visit without a network. */
  #keep(names) {
    this.asOf = new Date()
    if (!this.storage) return
    for (const name of names) this.#dirty.add(name)
    this.#saving ??= setTimeout(() => this.save(), saveAfter)
  }

  save() {
    clearTimeout(this.#saving)
    this.#saving = undefined
    if (!this.storage || !this.asOf) return
    const entries = new Map([...this.#dirty].map(n => [n, this.view.entries.get(n)]))
    this.#dirty.clear()
    this.storage.keep(entries, this.asOf).catch(() => {}) // the outbox has reported that nothing can be stored
  }

  #answered() {
    this.outbox?.wake()
    if (!this.declare.length || this.#declared) return
    this.#declared = true
    this.connection.send({ method: 'POST', path: '/keys', body: `{"keys":[${this.declare.map(k => write(k, k.kind))}]}`, key: draw() }).then(
      ({ findings }) => findings?.forEach(f => this.problem(new BoardError(f.code, f.sentence, { about: f.name }))),
      e => {
        if (unsure(e)) this.#declared = false // with the next answer
        else if (e.code !== 'forbidden') this.problem(e)
      })
  }

  /** Makes changes, or queues them. A change that is needed now is never queued. */
  async commit(ops, how, verb, now) {
    const { connection, view, outbox, transports } = this
    const names = [...new Set(ops.map(o => o.name).filter(n => n))], base = outbox && Object.fromEntries(names.map(n => [n, outbox.base(n)]))
    ops = ops.map(o => o.op === 'put' && !o.if && view.names.has(o.name) ? { ...o, seen: tagOf(view.entry(o.name)) } : o)
    const item = { verb, ops, key: draw(), place: connection.place, who: connection.who, instance: connection.instance }
    const each = f => {
      for (const n of names) f(this.node(n))
      this.changed(names)
    }
    each(n => {
      n.sending++
      n.refused = undefined
    })
    outbox?.begin(item)
    try {
      const waits = await outbox?.waits()
      if (now && waits) throw new BoardError('unavailable', 'other changes wait to be sent, and this one can\'t be queued behind them: try again in a while')
      if (!now && (waits || outbox && unsure(transports.error))) return await outbox.add(item, base)
      try {
        const before = base && Object.fromEntries(names.map(n => [n, { mark: view.mark, tag: base[n] }])), page = await this.send(item, how?.signal)
        await outbox?.stored(item, page, before)
        return page
      } catch (e) {
        if (!outbox || now || !unsure(e) || how?.signal?.aborted) throw e
        return await outbox.add({ ...item, sent: true }, base)
      }
    } catch (e) {
      if (!unsure(e) && !/^(queued|closed)$/.test(e.code)) each(n => { n.refused = e })
      throw e
    } finally {
      outbox?.end(item)
      each(n => { n.sending-- })
    }
  }

  /** Sends a change, and shows its result. */
  async send(item, signal) {
    const { connection, view, transports } = this, asked = { epoch: view.epoch }
    item.since ??= view.mark
    let answer
    try {
      answer = await connection.page({ ...item, method: 'POST', path: '/commit', as: item.instance, signal, body: `{"ops":[${item.ops.map(sentForm)}]}` })
      if (answer.results?.length !== item.ops.length) throw connection.unexpected('other ops')
      if (unsure(transports.error)) transports.answered()
    } catch (e) {
      if (unsure(e) && e.code !== 'unexpected' && !signal?.aborted) {
        transports.answered('', e)
        transports.start()
        transports.kick() // find out whether the server is there
      }
      throw e
    }
    if (!answer.repeated && item.instance === connection.instance) this.#from ??= answer.entries.find(e => e.version === answer.version)?.from
    answer.results.forEach(({ replaced }, i) => replaced && this.#reportLost(item.ops[i].name, replaced))
    for (let tries = 0; tries < mostCatchUp && !this.take(asked, answer); tries++) {
      await delay(20)
      if (parseInt(view.mark) >= answer.version) continue
      if (!await transports.ask().catch(() => undefined)) break
    }
    return answer
  }

  #reportLost(name, replaced) {
    const lost = replaced.value === undefined ? 'a value' : write(replaced.value)
    this.problem(new BoardError('replaced', `this set of ${name} replaced ${lost}, which ${replaced.by || 'somebody'} stored and this app had not seen: use add, append, update or setIf, which lose nothing`, { about: name, replaced }))
  }

  /** Resolves when the server has answered for all variables. */
  async ready({ signal, timeout = this.connection.timeout } = {}) {
    const { view, transports, connection } = this
    const settled = () => view.idle ? !!transports.way : !!view.mark
    await new Promise((ok, no) => {
      const over = AbortSignal.any([connection.over.signal, ...signal ? [signal] : []])
      const late = () => done(() => no(transports.error ?? new BoardError('unreachable', 'no answer within the time limit')))
      const ended = () => done(() => no(connection.closed ? new BoardError('closed', 'the board was closed by this app') : transports.error ?? new BoardError('unreachable', 'the app ended the call before the answer came', { cause: signal.reason })))
      const timer = setTimeout(late, timeout)
      const done = f => {
        clearTimeout(timer)
        over.removeEventListener('abort', ended)
        stop()
        f()
      }
      let stop = () => {}
      const look = () => {
        if (settled()) done(ok)
        else if (/^(unauthorized|forbidden)$/.test(transports.error?.code)) done(() => no(transports.error))
      }
      over.addEventListener('abort', ended)
      if (over.aborted) return ended()
      stop = this.watching(() => true, () => setTimeout(look))
    })
  }
}

/** Joins the board of a link. */
export function join(link, options = {}) {
  const core = new Core(link, options), { connection, transports, view, outbox } = core
  const status = {
    get way() { return transports.way },
    get error() { return transports.error },
    get trouble() { return transports.trouble },
    get version() { return view.version },
    get heard() { return connection.heard },
    get asOf() { return core.asOf },
  }
  const onVisibility = () => {
    if (!page.hidden) return board.resume()
    core.save() // the page may be left now
    board.pause()
  }
  const board = {
    board: connection.board,
    status,
    on(key) {
      if (!(key instanceof Key)) throw invalid(key instanceof RecordsKey ? `${key.name} is a collection: use records` : 'on takes a key, such as int(\'tank/litres\', 0)')
      core.firstUse(key)
      if (key.check) core.keys.set(key.name, key)
      if (view.bind(key.name)) transports.kick()
      transports.start()
      return new Variable(core, key)
    },
    records(key) {
      if (!(key instanceof RecordsKey)) throw invalid('records takes the key of a collection, from records or family')
      core.firstUse(key)
      if (view.bindPrefix(`${key.name}/`)) transports.kick()
      transports.start()
      return new Collection(core, key)
    },
    async commit(ops, how) {
      if (!Array.isArray(ops) || !ops.every(o => o?.json)) throw invalid('commit takes a list of ops, such as [tank.op.add(-10)]')
      return core.commit(ops, how)
    },
    ready: how => core.ready(how),
    call: (method, path, { query, body, signal } = {}) => connection.send({ method, path, query, signal, body: body && write(body), key: method !== 'GET' && draw() }),
    watch: (prefix, f) => core.watchPrefix(prefix, f),
    onStatus: f => core.watching(() => false, () => f(status)),
    pending: async () => await outbox?.list() ?? [],
    discard: async id => outbox?.discard(id),
    retry: async id => outbox?.retry(id),
    pause: () => transports.pause(),
    resume() {
      transports.resume()
      outbox?.wake()
    },
    close() {
      core.save()
      connection.over.abort()
      transports.kick()
      outbox?.wake()
      core.changed()
      core.stopWatching()
      page?.removeEventListener('visibilitychange', onVisibility)
    },
  }
  page?.addEventListener('visibilitychange', onVisibility)
  return board
}
