// The page of a board: what is there, is it fresh, who changed it.

import { join } from '/small-pantry.js'
import { $, make, setText } from './dom.js'
import { Table } from './table.js'
import { fromLines, kinds, line, makeOp, parse, wordFor } from './values.js'

// The token comes behind #, and stays in this tab alone.
const path = location.pathname, slot = `small-pantry ${path}`
let token = ''
try {
  if (location.hash.length > 1) sessionStorage[slot] = location.hash.slice(1)
  token = sessionStorage[slot] ?? ''
} catch { token = location.hash.slice(1) }
if (location.hash) history.replaceState(null, '', path)
addEventListener('hashchange', () => location.reload())

const name = decodeURIComponent(path.split('/')[2])
const board = join(`${location.origin}${path}${token && `#${token}`}`, { name: 'page', offline: true, parse, onProblem() {} }) // the page says itself what is wrong
setText($('name'), name)
document.title = name

const table = new Table(store)
let facts, happened, fine, since, soon, looked = 0, looking, owns = false, shared, waits = [], had = false

/** Makes an op: '' where it is stored or waits, else a sentence, or {theirs} where somebody was faster. */
async function store(op) {
  try {
    await board.commit([op])
    return ''
  } catch (e) {
    if (e.code === 'queued') return ''
    if (e.code === 'conflict') return { theirs: e.stored, shown: e.stored && line(e.stored.value, e.stored.kind) }
    if (e.code === 'absent') return { theirs: undefined }
    return e.message
  } finally { pending() }
}

/** Shows what waits to be sent, and what was refused when it was. */
async function pending() {
  try { waits = await board.pending() } catch { waits = [] }
  const notes = new Map()
  for (const w of waits) for (const o of w.ops) notes.set(o.name, w.error
    ? { text: `${w.error.message} `, buttons: [make('button', { onclick: () => board.discard(w.id).then(pending) }, 'Leave it')] }
    : { text: 'A change of yours waits to be sent.', class: 'on-its-way' })
  for (const row of table.rows.values()) row.say('queue', notes.get(row.name))
  const n = waits.filter(w => !w.error).length
  $('waiting').hidden = n === 0
  setText($('waiting'), n === 1 ? 'One change of yours waits to be sent.' : `${n} changes of yours wait to be sent.`)
}

function connection() {
  const { error, way } = board.status, el = $('connection')
  const clock = since?.toLocaleTimeString(undefined, { hour: '2-digit', minute: '2-digit' })
  let says = 'Looking for the board.', as = ''
  if (error && (error.code === 'unauthorized' || error.code === 'forbidden' || error.code === 'no-board')) {
    says = token ? 'This link is no longer valid.' : 'This board is opened by its link: whoever owns it can give you one.'
    as = 'refused'
  } else if (error) {
    says = clock ? `No connection since ${clock}. What is shown is from then; ${table.may.changes ? 'what you change is kept and sent later.' : 'it follows again by itself.'}` : 'This board can\'t be reached at present; it is asked for again and again.'
    as = 'stale'
  } else if (had && facts && !facts.exists) {
    says = 'This board was removed.'
    as = 'refused'
  } else if (way) {
    says = way === 'poll' ? 'Asking every 2 seconds; changes show with a short delay.' : 'Live: changes show as they happen.'
    if (facts?.may === 'read') says += ' You may look, but not change anything here.'
    if (facts?.may === 'add') says += ' You may count and append, and overwrite nothing.'
    as = 'live'
  }
  setText(el, says)
  el.className = as
  document.body.classList.toggle('stale-page', as === 'stale' || as === 'refused')
}

/** Asks for what is not pushed: the facts, the declared keys, the newest commits. */
async function look() {
  looked = Date.now()
  looking = true
  try {
    const [is, { keys }] = await Promise.all([board.call('GET', ''), board.call('GET', '/keys')])
    facts = is
    had ||= facts.exists
    table.setRules(facts.may, keys)
    drawFacts()
    connection()
    begin()
    happened ??= new (await import('./happened.js')).Happened(board, goBack)
    await happened.load()
  } catch (e) {
    if (!board.status.error) setText(document.querySelector('#happened .said'), e.message)
    if (!facts) setTimeout(lookSoon, 3000)
  } finally { looking = false }
}

/** Looks a moment later, and however much changes, not again for a while. */
function lookSoon() {
  soon ??= setTimeout(() => {
    soon = undefined // what changes from here on is looked at once more
    look()
  }, Math.max(250, looked + 1500 - Date.now()))
}

function drawFacts() {
  const near = Number(facts.near ?? 0), said = []
  if (facts.entries !== undefined) said.push(`${facts.entries} ${Number(facts.entries) === 1 ? 'entry' : 'entries'}`)
  said.push(`version ${facts.version}`, location.protocol === 'https:' ? 'encrypted on its way' : 'not encrypted on its way')
  if (facts.near !== undefined) said.push(near < 0.01 ? 'far from every limit' : `${Math.round(near * 100)} % of the nearest limit`)
  if (facts.prefix) said.push(`only ${facts.prefix}`)
  if (facts.closed) said.push('only declared names')
  setText($('facts'), said.join(' · '))
  owns = facts.may === 'own' && !!token
  if (!owns) $('share').hidden = true
  else {
    shared ??= import('./share.js').then(m => new m.Share(board, facts.prefix ?? ''))
    shared.then(() => { $('share').hidden = !owns }, () => { shared = undefined }) // before, a click would do nothing
  }
  $('add').hidden = !table.may.changes || facts.closed || !!table.past
  const field = $('add').elements.name
  if (facts.prefix && !field.value) field.value = facts.prefix
}

// ---- The past ----

let then

async function goBack(commit) {
  try {
    const all = new Map()
    for (let after; ;) {
      const page = await board.call('GET', '/entries', { query: { at: commit.version, after } })
      for (const e of page.entries) all.set(e.name, e)
      if (!(after = page.next)) break
    }
    then = commit
    table.setPast(all)
    setText($('past').querySelector('strong'), `As it was after version ${commit.version}, ${new Date(commit.at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'medium' })}. This is the past.`)
    $('restore').hidden = !table.may.changes
    $('past').hidden = false
    $('add').hidden = true
    $('present').focus()
  } catch (e) { setText(document.querySelector('#happened .said'), e.message) }
}

function toPresent() {
  then = undefined
  $('past').hidden = true
  table.setPast(undefined)
  if (facts) drawFacts()
  $('filter').focus()
}
$('present').addEventListener('click', toPresent)
$('restore').addEventListener('click', async () => {
  try {
    await board.call('POST', '/commit', { body: { ops: [{ op: 'restore', at: then.version, prefix: facts.prefix ?? '' }] } })
    toPresent()
  } catch (e) { setText($('past').querySelector('strong'), e.message) }
})

// ---- Adding ----

const add = $('add'), saidOfAdd = add.querySelector('.said')
add.elements.kind.append(make('option', { value: '' }, 'as it reads'), ...kinds.map(k => make('option', { value: k }, wordFor(k))))
add.addEventListener('submit', async e => {
  e.preventDefault()
  const { name, value, kind } = add.elements, at = name.value.trim(), key = table.keyOf(at), as = kind.value || key?.kind // else as it reads
  const text = as === 'list' && !value.value.startsWith('[') ? fromLines(value.value.replaceAll(',', '\n')) : value.value
  const became = await store(makeOp('put', at, `"typed":${JSON.stringify(text)}${as ? `,"kind":"${as}"` : ''}`, '0'))
  setText(saidOfAdd, became === '' ? '' : typeof became === 'string' ? became : `${at} is there already: change it in its row.`)
  if (became !== '') return
  name.value = facts?.prefix ?? ''
  value.value = ''
  name.focus()
})

// ---- The keyboard ----

addEventListener('keydown', e => {
  if (e.ctrlKey || e.metaKey || e.altKey || e.target.closest?.('input, textarea, select, dialog')) return
  if (e.key === '/') setTimeout(() => $('filter').focus())
  else if (e.key === '?') $('help').showModal()
  else return
  e.preventDefault()
})
$('help-button').addEventListener('click', () => $('help').showModal())

// ---- What comes ----

let first = true, told = new Map()

/** Shows what is there, once that is known and what may be done with it. */
function begin() {
  if (!first || !board.status.way || looking && !facts) return
  first = false
  table.arrange()
  requestAnimationFrame(() => setTimeout(() => performance.mark('shown'))) // how long it took, for whoever measures
}

function announce(changed) {
  if (!told.size) setTimeout(() => {
    setText($('news'), told.size > 3 ? `${told.size} entries have changed` : [...told].map(([n, e]) => e ? `${n} is ${line(e.value, e.kind)}` : `${n} was removed`).join(', '))
    told = new Map()
  }, 1000)
  for (const [n, e] of changed) told.set(n, e)
}

table.onNames = n => {
  const empty = $('empty')
  empty.hidden = n > 0 || first
  if (n > 0 || first || empty.firstChild) return
  const prefix = facts?.prefix ?? ''
  empty.append('Nothing is stored here yet. The first value, from anywhere:', make('code', {}, `curl -X PUT ${location.origin}/v1${path}/entries/${prefix || 'tank/'}litres${token ? ' -H "Authorization: Bearer $TOKEN"' : ''} -d 420`))
  if (token) empty.append(make('span', { class: 'small' }, '$TOKEN is the part of the link after #.'))
}

board.watch('', changed => {
  table.update(changed, first)
  if (waits.length) pending()
  if (first || !changed.size) return
  announce(changed)
  lookSoon()
})
board.onStatus(() => {
  const { error, way } = board.status
  if (error && fine) since = new Date()
  fine = !error && !!way
  if (fine) {
    begin()
    if (!facts && !looking) lookSoon()
    pending()
  }
  connection()
})
look().then(begin)
setInterval(() => { if (!document.hidden && !board.status.error) look() }, 30000)
