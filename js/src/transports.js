// How changes arrive: by a stream if the network allows it, else by requests that wait, else by polls.

import { BoardError } from './errors.js'
import { clock, delay, queryOf } from './connection.js'

const longWait = 30 // seconds that a server is asked to wait for a change
const longestQuery = 8192
const tryAgain = 60_000 // ms until a transport that failed is tried again; it doubles with each failure
const soon = 10_000 // ms within which a stream that ends was cut by something on the way
const mostAtOnce = 60 // requests one after the other; then one a second

export class Transports {
  way = '' // the transport that works
  error = undefined // why the newest attempt failed
  trouble = '' // what does not work on this network
  paused = false

  #streamAt = 0
  #waitAt = 0
  #failed = { stream: 0, wait: 0 } // in a row
  #cuts = 0 // streams in a row that ended soon
  #news = 0
  #pause = 0
  #kicked = false
  #asking
  #wake = () => {}
  #running = false
  #allowed = { tokens: mostAtOnce, at: clock(), told: false }
  #told = new Set()

  /** on: { take(asked, page), answered(), changed(), problem(e) }. beat is in seconds. */
  constructor(connection, view, { fast = 2000, slow = 15_000, push = true, beat }, on) {
    Object.assign(this, { connection, view, fast, slow, push, beat, on })
  }

  start() {
    if (this.#running) return
    this.#running = true
    this.#run()
  }

  /** Asks at once, instead of what is under way. */
  kick() {
    this.#kicked = true
    this.#wake()
    this.#asking?.abort()
  }

  pause() {
    this.paused = true
    this.kick()
  }

  resume() {
    this.paused = false
    this.#pause = 0
    this.kick()
  }

  async #run() {
    const sleep = ms => new Promise(done => {
      const timer = setTimeout(done, Math.min(ms, 2e9))
      this.#wake = () => {
        clearTimeout(timer)
        done()
      }
    })
    let atOnce = false // the last request was not followed by a pause
    await 0
    while (!this.connection.closed) {
      const hold = this.paused ? Infinity : this.connection.later - clock()
      if (hold > 0) {
        await sleep(hold)
        continue
      }
      if (atOnce && !this.#mayAskAtOnce()) {
        await sleep(1000)
        continue
      }
      this.#kicked = false
      atOnce = await this.#follow() || this.#kicked
      if (atOnce) continue
      this.#pause = !this.#pause || clock() - this.#news < 15 * this.fast ? this.fast : Math.min(this.#pause * 1.5, this.slow)
      await sleep(this.#pause * (0.9 + Math.random() / 5))
      if (this.#kicked) {
        this.#pause = 0
        atOnce = true
      }
    }
  }

  /** In any case, a client sends 60 requests one after the other, and then one a second. */
  #mayAskAtOnce() {
    const a = this.#allowed, now = clock()
    a.tokens = Math.min(mostAtOnce, a.tokens + (now - a.at) / 1000)
    a.at = now
    if (a.tokens >= mostAtOnce - 1) a.told = false
    if (a.tokens >= 1) {
      a.tokens--
      return true
    }
    if (!a.told) this.on.problem(new BoardError('unexpected', 'the answers contradict each other, or the way to the server loses what is requested, as when two servers with different data share one address; the board is now asked once a second'))
    a.told = true
    return false
  }

  /** Uses the best transport, and returns true if the next one is to be tried at once. */
  #follow() {
    const now = clock()
    if (!this.push || this.view.idle || this.error) return this.#poll()
    if (now >= this.#streamAt) return this.#stream()
    if (now >= this.#waitAt && this.view.mark) return this.#wait()
    return this.#poll()
  }

  /** Returns what to ask, and what its answer is compared with. */
  #question() {
    const { query, since, asked } = this.view.question()
    const whole = this.view.prefixes.includes('') || queryOf(query).length > longestQuery
    return { query: { ...whole ? {} : query, since }, asked }
  }

  /** Asks for everything new, in as many pages as needed, and returns the names that changed. */
  async ask({ wait, signal } = {}) {
    const { query, asked } = this.#question(), rq = { method: 'GET', path: '/entries', once: true, signal }
    const page = await this.connection.page({ ...rq, query: { ...query, wait }, wait })
    for (let more = page; more.next && !query.limit;) {
      more = await this.connection.page({ ...rq, query: { ...query, after: more.next } })
      page.entries.push(...more.entries)
      page.gone.push(...more.gone)
    }
    if (signal && this.paused) throw new BoardError('unreachable', 'the board was paused meanwhile') // it comes again after the pause
    const changed = this.on.take(asked, page)
    if (!changed && asked.epoch === this.view.epoch && asked.mark === this.view.mark) throw this.connection.unexpected(page.since)
    if (changed?.size) this.#news = clock()
    return { changed, whole: page.whole }
  }

  /** Polls. It returns true if a better transport can work now. */
  async #poll() {
    this.#asking = new AbortController()
    try {
      await this.ask({ signal: this.#asking.signal })
    } catch (e) {
      if (this.#kicked || this.connection.closed) return true
      this.answered('', e)
      return false
    }
    this.answered('poll')
    return this.push && !this.view.idle && clock() >= Math.min(this.#streamAt, this.#waitAt)
  }

  async #wait() {
    const begun = clock()
    this.#asking = new AbortController()
    try {
      const { changed, whole } = await this.ask({ wait: longWait, signal: this.#asking.signal })
      this.answered('wait')
      if (!changed || changed.size || whole || clock() - begun > longWait * 500) {
        this.#failed.wait = 0
        return true
      }
    } catch {
      if (this.#kicked || this.connection.closed) return true
    }
    this.#waitAt = this.#fails('wait', 'requests that wait are cut on this network, so that changes arrive by polls')
    return this.#poll()
  }

  async #stream() {
    const { query, asked } = this.#question(), begun = clock()
    let worked = false, silent = false, rest = '', data = '', id = '', whole
    this.#asking = new AbortController()
    const take = page => {
      if (this.paused) return // it comes again after the pause
      if (whole) Object.assign(page, { whole: whole.whole, since: whole.since, entries: [...whole.entries, ...page.entries], gone: [...whole.gone, ...page.gone] })
      whole = page.next && page
      if (whole) return
      worked = true
      const changed = this.on.take(asked, page)
      if (!changed) throw this.connection.unexpected(page.since)
      if (changed.size) this.#news = clock()
      asked.mark = this.view.mark
      this.#failed.stream = 0
      this.trouble = ''
      this.answered('push')
    }
    try {
      await this.connection.request({ method: 'GET', path: '/events', query: { ...query, beat: this.beat }, signal: this.#asking.signal }, this.beat * 2500, (text, resp) => {
        if (!resp.ok || !/^text\/event-stream/.test(resp.headers.get('Content-Type'))) throw this.connection.unexpected('no stream')
        const lines = (rest + text).split('\n')
        rest = lines.pop()
        for (const line of lines) {
          if (line.startsWith('data:')) data += line.slice(5)
          if (line.startsWith('id:')) id = line.slice(3).trim()
          if (line.trim()) continue
          if (data) take(this.connection.ours(this.connection.read(data)))
          else if (id && worked && !this.paused) this.view.moveTo(asked, id)
          data = id = ''
        }
      })
    } catch (e) {
      if (this.#kicked || this.connection.closed) return true
      silent = worked && e.silent
    }
    if (!worked || silent) {
      this.#streamAt = this.#fails('stream', 'streams do not come through on this network, so that changes arrive by requests that wait')
    } else {
      this.#cuts = clock() - begun > soon ? 0 : this.#cuts + 1
      if (this.#cuts > 1) this.#streamAt = clock() + Math.min(1000 * 2 ** this.#cuts, tryAgain)
      await delay(Math.random() * 500) // many pages don't come back in step
    }
    return this.#poll() // is the server there?
  }

  /** Notes that a transport failed, and returns when to try it again. */
  #fails(which, sentence) {
    const n = ++this.#failed[which]
    this.trouble = sentence
    if (n === 2 && !this.error && !this.#told.has(which)) { // the server is there
      this.#told.add(which)
      this.on.problem(new BoardError('transport', sentence))
    }
    return clock() + Math.min(tryAgain * 2 ** (n - 1), 600_000)
  }

  /** Notes how an attempt ended, and the transport that brings changes now; '' means none. */
  answered(way, error) {
    const before = this.error?.code, same = before === error?.code && (!way || this.way === way)
    this.error = error
    if (way) this.way = way
    if (!error) this.on.answered()
    else if (before !== error.code) this.on.problem(error)
    if (!same) this.on.changed()
  }
}
