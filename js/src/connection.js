// Calls to the server of a board.

import { BoardError, mayBeDone, unsure } from './errors.js'
import { draw, parse } from './json.js'

export const clock = () => performance.now() // the wall clock can be set back
export const delay = ms => new Promise(f => setTimeout(f, ms))

const longestLater = 300 // seconds of Retry-After that are obeyed

/** Returns the query of a URL. Lists become repeated parameters; null and undefined are left out. */
export function queryOf(query) {
  const q = new URLSearchParams()
  for (const [name, values] of Object.entries(query ?? {})) for (const x of [values].flat()) if (x != null) q.append(name, x)
  return `?${q}`
}

export class Connection {
  instance = draw() // distinguishes the changes of this page from those of others
  over = new AbortController() // aborted by close
  later = 0 // no call before this time of clock (Retry-After)
  heard = undefined // when the last byte came

  constructor(link, { name, timeout = 10_000, patience = 5_000, parse: read = parse }) {
    const [, base, path, token = ''] = /^(https?:\/\/[^/?#]+)\/boards\/([^/?#]+)(?:#(.*))?$/.exec(link) ?? []
    if (!base) throw new BoardError('link', 'a link is http://HOST:PORT/boards/BOARD')
    try {
      this.board = decodeURIComponent(path)
    } catch {
      throw new BoardError('link', `${path} is no board's name`)
    }
    Object.assign(this, { base, token, timeout, patience, read, name: name && unescape(encodeURIComponent(name)) })
    this.place = `${base}/v1/boards/${path}`
    this.who = token.split('.')[0] // receipts are bound to the token's id
    this.plain = /^http:\/\/(?!(localhost|127\.[\d.]+|\[::1\])[:/])/.test(link)
  }

  get closed() { return this.over.signal.aborted }

  unexpected(why) { return new BoardError('unexpected', `no answer of a board (${why}); is the address right?`) }

  /** Sends a request once and calls onText with each piece of its answer. A silence of quiet ms ends it. */
  async request({ method, path, query, body, key, since, signal, as = this.instance, wait = 0 }, quiet, onText) {
    const stop = new AbortController()
    const headers = Object.entries({
      'Client-Instance': as, 'Client-Name': this.name, Authorization: this.token && `Bearer ${this.token}`,
      'Content-Type': body && 'application/json', 'Idempotency-Key': key, 'Idempotency-Since': since,
    }).filter(h => h[1])
    let timer
    const within = ms => {
      clearTimeout(timer)
      timer = setTimeout(() => stop.abort(), ms)
    }
    try {
      within(this.timeout + wait * 1000)
      const resp = await fetch(this.place + path + queryOf(query), {
        method, headers, body, cache: 'no-store', redirect: 'error',
        signal: AbortSignal.any([this.over.signal, stop.signal, ...signal ? [signal] : []]),
      })
      const reader = resp.body?.getReader(), decoder = new TextDecoder()
      for (let got; reader && !(got = await reader.read()).done;) {
        within(quiet)
        this.heard = new Date()
        onText(decoder.decode(got.value, { stream: true }), resp)
      }
      return resp
    } catch (cause) {
      if (this.closed) throw new BoardError('closed', 'the board was closed by this app')
      if (cause instanceof BoardError) throw cause
      throw new BoardError('unreachable', `${this.base} can't be reached: no ${stop.signal.aborted ? 'answer in time' : 'connection'}`, { cause, silent: stop.signal.aborted })
    } finally {
      clearTimeout(timer)
      stop.abort()
    }
  }

  /** Makes a call, and repeats it for as long as patience allows if it counts once. */
  async send(rq) {
    const end = clock() + this.patience
    let sent = rq.sent, maybe = false
    for (let pause = 50; ; pause = Math.min(pause * 1.5, 1000)) {
      try {
        if (!rq.once) {
          if (this.later > end) throw new BoardError('rate-limited', 'the server wants no call yet')
          if (this.later > clock()) await delay(this.later - clock()) // without it, the call is sent at once
        }
        return await this.sendOnce({ ...rq, since: sent ? rq.since : undefined })
      } catch (e) {
        const again = unsure(e) && (e.code !== 'unexpected' || rq.key)
        if (!again || rq.once || Math.max(clock() + pause, this.later) > end || rq.signal?.aborted) throw maybe && rq.key && !mayBeDone(e) ? new BoardError('uncertain', `${e.message}; the change may have been made earlier`) : e
        maybe ||= mayBeDone(e)
      }
      sent = true
      await delay(pause * (0.5 + Math.random()))
    }
  }

  async sendOnce(rq) {
    let text = '', json
    const resp = await this.request(rq, this.timeout, s => { text += s })
    try {
      json = this.read(text)
    } catch { /* it is no JSON */ }
    if (resp.ok) {
      if (text && (typeof json !== 'object' || !json)) throw this.unexpected('no JSON')
      return Object.assign(json ?? {}, resp.headers.has('Repeated') && { repeated: true })
    }
    const retryAfter = secondsIn(resp.headers.get('Retry-After'))
    if (retryAfter) this.later = Math.max(this.later, clock() + Math.min(retryAfter, longestLater) * 1000)
    const isProblem = /^application\/problem\+json/.test(resp.headers.get('Content-Type') ?? '')
    if (isProblem && json?.code) throw new BoardError(json.code, json.detail, { status: resp.status, retryAfter, at: json.op, stored: json.entry, near: json.near })
    if (resp.status >= 500) throw new BoardError('uncertain', `something between here and the board answers ${resp.status}; the change may have been made`)
    throw this.unexpected(resp.status)
  }

  /** Makes a call whose answer is a page of this board. */
  async page(rq) { return this.ours(await this.send(rq)) }

  /** Returns a page if it is of this board. */
  ours(page) {
    if (page.board !== this.board || !/^\d+\.[0-9a-f]{8}$/.test(page.mark)) throw this.unexpected(`board ${page.board}`)
    return page
  }
}

/** Reads a Retry-After: seconds or a date. */
function secondsIn(header) {
  if (header >= 0) return +(header ?? 0)
  return Math.max(0, (Date.parse(header) - Date.now()) / 1000) || 0
}
