// What the page knows of the board, and what it does to it. Components subscribe to parts of it.

import { board } from './board.js'
import { byName, commits, loadHistory, more, remember } from './history.js'
import { device, link, session, slot, token, tokenID } from './link.js'
import { clock, entryAt, isOlder, json, line, makeOp, parse, same, sortNames, tag } from './model.js'
import { emit } from './topics.js'
import { view } from './view.js'

// ---- What is there ----

export const entries = new Map()
export let facts, keys = new Map(), ready = false
export let known // when the shown entries were current, if they are from an earlier visit

export let may = { right: 'read', changes: false, adds: false, owns: false }

/** The declaration of a name: its own, or that of its family. */
export function keyOf(name) {
  if (keys.get(name)) return keys.get(name)
  for (let cut = name.lastIndexOf('/'); cut > 0; cut = name.lastIndexOf('/', cut - 1)) if (keys.get(`${name.slice(0, cut)}/`)) return keys.get(`${name.slice(0, cut)}/`)
}

/** What a card shows: the entry, now or at the moment of the past, and its kind and value. */
export function shown(name) {
  const entry = past ? entryIn(name) : entries.get(name), key = keyOf(name)
  return { entry, key, kind: entry?.kind ?? key?.kind, value: entry ? entry.value : key?.default }
}

let sorted
/** The names that have a card, sorted. */
export function names() {
  if (sorted) return sorted
  const all = new Set(entries.keys())
  for (const k of keys.values()) if (!k.family && !k.gone) all.add(k.name)
  for (const n of removed.keys()) all.add(n)
  for (const n of waiting.keys()) all.add(n)
  if (past) for (const n of byName().keys()) if (entryIn(n)) all.add(n)
  return sorted = sortNames([...all])
}
function namesChanged() {
  sorted = undefined
  emit('names')
}

// ---- Changes that come ----

export const fresh = new Map() // name to the time of a change that was seen
let news = new Map(), frame

function take(changed) {
  let known = true
  for (const [name, e] of changed) {
    const before = entries.get(name)
    if (before?.version === e?.version && before?.updated === e?.updated) continue
    known = false
    e ? entries.set(name, e) : entries.delete(name)
    if (!ready) continue
    if (!news.has(name)) news.set(name, before)
    remember(name, before, e)
  }
  if (!ready) begin() // the first view does not wait
  frame ??= setTimeout(draw, document.hidden ? 1000 : 30)
  if (known || waiting.size) pending() // something became of a change that waits
}

function draw() {
  frame = undefined
  const changed = news
  news = new Map()
  if (!ready) {
    begin()
    if (known) namesChanged()
    return
  }
  let more = false
  const now = Date.now()
  for (const [name, before] of changed) {
    const e = entries.get(name)
    if (!before !== !e) more = true
    if (e) removed.delete(name)
    fresh.set(name, now)
    announce(name)
  }
  if (past) return
  if (more) namesChanged()
  emit(...[...changed.keys()].map(n => `e ${n}`))
  if (changed.size) emit('history')
  if (more && facts) lookSoon()
}

/** Shows what is there, once that and the rights are known. */
function begin() {
  if (ready || !board.status.way || looking && !facts) return
  ready = true
  known = undefined
  namesChanged()
  emit('ready', 'connection')
  requestAnimationFrame(() => setTimeout(() => {
    performance.mark('shown')
    loadHistory()
  }))
}

// ---- Announcements: each entry at most once in ten seconds, with its last value ----

export let announced = ''
const said = new Map(), unsaid = new Set()
let announcing

function announce(name) {
  unsaid.add(name)
  announcing ??= setTimeout(sayNews, 1000)
}
function sayNews() {
  announcing = undefined
  const now = Date.now(), due = [...unsaid].filter(n => now - (said.get(n) ?? 0) >= 10_000)
  if (due.length) {
    for (const n of due) {
      unsaid.delete(n)
      said.set(n, now)
    }
    announced = due.length > 3 ? `${due.length} entries have changed` : due.map(sentenceOf).join(', ')
    emit('announced')
  }
  if (said.size > 1000) said.clear()
  if (unsaid.size) announcing = setTimeout(sayNews, 1000)
}
const sentenceOf = n => entries.has(n) ? `${n} is ${line(entries.get(n).value, entries.get(n).kind)}` : `${n} was removed`

// ---- Facts and keys ----

let looking, looked = 0, soon

export async function look() {
  looked = Date.now()
  looking = true
  try {
    const [is, list] = await Promise.all([board.call('GET', ''), board.call('GET', '/keys')])
    const existed = facts?.exists
    facts = { ...is, removed: existed && !is.exists || facts?.removed && !is.exists }
    const changes = /write|own|admin/.test(facts.may)
    may = { right: facts.may, changes, adds: changes || facts.may === 'add', owns: facts.may === 'own' && !!token }
    keys = new Map(list.keys.map(k => [k.family ? `${k.name}/` : k.name, k]))
    const rules = json([facts.may, facts.closed, list.keys])
    if (rules !== look.rules) {
      look.rules = rules
      namesChanged()
      emit('rules')
    }
    emit('facts', 'connection')
    begin()
  } catch { if (!facts) setTimeout(lookSoon, 3000) } finally { looking = false }
}

function lookSoon() {
  soon ??= setTimeout(() => {
    soon = undefined
    look()
  }, Math.max(250, looked + 5000 - Date.now()))
}

// ---- The connection ----

let lost // since when there is no connection
let fine

function connection() {
  const { error, way } = board.status
  if (error && fine !== false) lost = fine ? new Date() : undefined
  fine = error ? false : !!way || fine
  if (error && !ready) showKnown()
  if (!error && way) {
    begin()
    if (!facts && !looking) lookSoon()
  }
  look.pending?.()
  emit('connection')
}

// ---- The link on this device, and what else this browser knew, for a visit without a network ----
// The client keeps the entries.

export const isKept = () => device(slot) === token && token !== ''
export function keepLink(keep) {
  device(slot, keep ? token : '')
  keep ? saveKnown() : device(knownSlot, '')
  emit('link')
}

const knownSlot = `${slot} known`

function saveKnown() {
  if (!ready) return
  const text = json({ id: tokenID, at: board.status.error ? lost?.getTime() : Date.now(), facts, keys: [...keys.values()] })
  session(knownSlot, text)
  if (isKept()) device(knownSlot, text)
}
addEventListener('pagehide', saveKnown)
addEventListener('visibilitychange', () => document.hidden && saveKnown())

function showKnown() {
  if (known || ready) return
  for (const text of [session(knownSlot), device(knownSlot)]) {
    if (!text) continue
    try {
      const was = parse(text)
      if (was.id !== tokenID) continue
      facts ??= was.facts
      keys = new Map(was.keys.map(k => [k.family ? `${k.name}/` : k.name, k]))
      const changes = /write|own|admin/.test(facts.may)
      may = { right: facts.may, changes, adds: changes || facts.may === 'add', owns: false }
      known = Math.max(Number(was.at), board.status.asOf ?? 0)
      lost = new Date(known)
      namesChanged()
      emit('ready', 'facts', 'connection')
      return
    } catch { /* it was written by another version of this page */ }
  }
}

// ---- The past ----

export let past // {time} while a moment of the past is shown

let atServer // the entries that the server gave for a moment that the history does not reach
let asking

export function setPast(time) {
  past = time === undefined ? undefined : { time }
  atServer = undefined
  clearTimeout(asking)
  if (past && isOlder(commits, more, time)) asking = setTimeout(() => askPast(time), 400)
  document.body.classList.toggle('past', !!past)
  namesChanged()
  emit('past')
}

async function askPast(time) {
  try {
    const all = new Map()
    for (let after; ;) {
      const page = await board.call('GET', '/entries', { query: { at: new Date(time).toISOString(), after } })
      for (const e of page.entries) all.set(e.name, e)
      if (!(after = page.next)) break
    }
    if (past?.time !== time) return
    atServer = all
  } catch (e) {
    if (past?.time === time) past = { time, says: e.code === 'too-old' ? 'The server does not know this moment any more.' : e.message }
  }
  namesChanged()
  emit('past')
}

const entryIn = name => atServer ? atServer.get(name) : entryAt(entries.get(name), byName().get(name), past.time)

/** What was different then: [{name, then, now}…]. */
export function pastDifferences() {
  const found = []
  for (const name of new Set([...names(), ...entries.keys()])) {
    const then = entryIn(name), now = entries.get(name)
    if (!same(then, now)) found.push({ name, then, now })
  }
  return found
}

/** Brings names back to how they were at the moment that is shown. */
export function restore(some) {
  const at = commits.find(c => Date.parse(c.at) <= past.time)?.version
  return commit({ op: 'restore', name: '', json: json({ op: 'restore', at: at ?? new Date(past.time).toISOString(), names: some }) })
}

// ---- Doing ----

export const waiting = new Map() // name to the changes that wait, or were refused when they were sent
export const notes = new Map() // name to what a change of this page came to: {op, says} or {op, theirs}
export const removed = new Map() // name to the entry that was removed here
export const sending = new Map() // name to the op that is on its way
export const taps = new Map() // name to what − and + have come to since they were sent

async function commit(op) {
  try {
    await board.commit([op])
    return {}
  } catch (e) {
    if (e.code === 'queued') return { waits: true }
    if (e.code === 'conflict') return { theirs: e.stored ?? null }
    if (e.code === 'absent') return { theirs: null }
    return { says: e.message }
  } finally { pending() }
}

/** Makes a change. What it came to, other than success, is in notes. */
export async function change(op) {
  const { name } = op
  notes.delete(name)
  sending.set(name, op)
  emit(`e ${name}`)
  const was = entries.get(name), result = await commit(op)
  if (sending.get(name) === op) sending.delete(name)
  if (op.op === 'drop' && was && !result.says && result.theirs === undefined) {
    removed.set(name, was)
    namesChanged()
  }
  if (result.says || result.theirs !== undefined) notes.set(name, { op, ...result })
  emit(`e ${name}`)
  return result
}

export function dropNote(name) {
  notes.delete(name)
  emit(`e ${name}`)
}

/** The same change again, over what somebody else has stored. */
export const insist = name => {
  const { op, theirs } = notes.get(name)
  return change({ ...op, if: tag(theirs) })
}

/** Removes an entry as it is shown: if somebody changed it meanwhile, it stays. */
export const remove = name => change(makeOp('drop', name, '', tag(entries.get(name))))

/** − and +: what is tapped within 0.6 s is one addition. */
export function tap(name, step, kind, key) {
  const sum = Number(((taps.get(name)?.sum ?? 0) + step).toPrecision(12))
  clearTimeout(taps.get(name)?.timer)
  const timer = setTimeout(() => {
    taps.delete(name)
    sum ? change(addOp(name, kind === 'float' && Number.isInteger(sum) ? `${sum}.0` : String(sum), key)) : emit(`e ${name}`)
  }, 600)
  taps.set(name, { sum, timer })
  emit(`e ${name}`)
}

/** The op that adds to a number. The server keeps it in its range and starts from its default. */
export const addOp = (name, amount, key) => makeOp('add', name, `"amount":${amount}${key ? `,"start":${json(key.default)}` : ''}`)
export const appendOp = (name, item, key) => makeOp('append', name, `"item":${item}${key?.keep ? `,"keep":${key.keep}` : ''}${key ? `,"start":${json(key.default)}` : ''}`)

async function pending() {
  let all = []
  try { all = await board.pending() } catch { /* this browser keeps nothing */ }
  const before = [...waiting.keys()]
  waiting.clear()
  for (const w of all) for (const op of w.ops) waiting.set(op.name, [...waiting.get(op.name) ?? [], { ...w, op }])
  const touched = new Set([...before, ...waiting.keys()])
  if (!touched.size) return
  if ([...touched].some(n => !entries.has(n))) namesChanged()
  emit('waiting', 'connection', ...[...touched].map(n => `e ${n}`))
}
look.pending = pending

export const takeBack = id => board.discard(id).then(pending, pending)
/** Sends a change again that somebody else was faster than, as the user's decision. */
export const storeMine = id => board.retry(id).then(pending, pending)
const countWaiting = () => new Set([...waiting.values()].flat().filter(w => !w.error && !w.other).map(w => w.id)).size

export const isRows = () => view.mode ? view.mode === 'rows' : names().length >= 200

/** The connection in words: [text, class]. */
export function connectionWords(now = Date.now()) {
  const { error, way, heard } = board.status, n = countWaiting()
  const waits = n ? `, but ${n === 1 ? '1 change waits' : `${n} changes wait`}` : ''
  if (error && /^(unauthorized|forbidden|no-board)$/.test(error.code)) return [token ? 'This link does not open the board any more. Ask for a new one.' : 'This board opens by its link. Its owner can give you one.', 'refused']
  if (error) return [lost ? `No connection since ${clock(lost)}. This is from then${may.adds ? '; what you change is kept and sent later.' : '.'}${n ? ` ${n === 1 ? '1 change waits.' : `${n} changes wait.`}` : ''}` : 'This board can\'t be reached at present. The page keeps trying.', 'stale']
  if (facts?.removed) return ['This board was removed.', 'refused']
  if (!way) return ['Looking for the board.', '']
  const silence = heard ? now - heard : 0
  const looking = facts?.watchers > 1 ? `. ${facts.watchers} are looking` : ''
  const live = way === 'poll' ? `Asking every 2 seconds; changes show with a short delay${waits}` : silence > 7000 ? `Live, heard ${Math.round(silence / 1000)} s ago${waits}` : `Live${waits}${looking}`
  return [`${live}.${facts?.may === 'read' ? ' You can look, but not change anything here.' : facts?.may === 'add' ? ' You can add, but not change or remove.' : ''}`, way !== 'poll' && silence > 12_500 ? 'stale' : 'live']
}

export function start() {
  board.watch('', take)
  board.onStatus(connection)
  look()
  setInterval(() => { if (!document.hidden && !board.status.error) look() }, 30_000)
  setInterval(() => emit('second'), 1000)
  setInterval(() => document.hidden || saveKnown(), 20_000)
}
