// Changes that wait for the network: what the cases can't say as data. Each function returns what failed, or nothing.

import { join, int, records, parse, write } from '/small-pantry.js'
import { sleep, until, check, same, site, quick, test } from '/testdata/common.mjs'

// What is queued outlives the page: queue leaves it, and later sends it, in another page.
export const queue = link => test(async () => {
  const b = join(link, { ...quick, patience: 200, offline: true }), v = b.on(int('n', 0))
  for (let i = 0; i < 3; i++) await v.add(1).catch(e => check(e.code === 'queued', e.code))
  same((await b.pending()).length, 3, 'pending')
})()
export const later = link => test(async () => {
  const b = join(link, { ...quick, offline: true }), v = b.on(int('n', 0))
  await until(() => `${v.get()} ${v.state().phase}`, () => v.get() === 13 && v.state().phase === 'current')
  await sleep(300)
  same((await v.lookup()).value, 13, 'once')
  b.close()
})()

// A change that was sent with one link, and may have arrived, is not sent with another: under another
// token it would count again.
export const links = (first, second) => test(async () => {
  const real = globalThis.fetch
  let lose = true
  globalThis.fetch = async (...a) => {
    const answer = await real(...a)
    if (lose && a[1]?.method && a[1].method !== 'GET') throw new TypeError('the answer is lost')
    return answer
  }
  try {
    const b = join(first, { ...quick, patience: 200, offline: true }), v = b.on(int('n', 0))
    await b.ready()
    await v.add(1).catch(e => same(e.code, 'queued', 'an addition'))
    same((await b.pending()).map(p => !!p.sent), [true], 'what is queued')
    b.close()
    lose = false
    const c = join(second, { ...quick, offline: true }), w = c.on(int('n', 0))
    await c.ready()
    await until('the addition is not shown', () => w.get() === 1)
    await sleep(500)
    same((await w.lookup()).value, 1, 'what counts')
    same((await c.pending()).length, 1, 'what is kept')
    c.close()
  } finally { globalThis.fetch = real }
})()

// What was sent to a board that is another one now may have arrived there: it is refused, told
// once and kept, and what was never sent counts.
export const another = test(async origin => {
  const { link, control } = await site(origin), problems = []
  await control('others', 'n {"op":"put","value":10}')
  const b = join(link, { ...quick, patience: 200, offline: true, onProblem: e => problems.push(e.code) }), v = b.on(int('n', 0))
  await b.ready()
  await control('do', 'lose 100000')
  for (let i = 0; i < 2; i++) await v.add(1).catch(e => same(e.code, 'queued', 'an addition'))
  same([await control('holds', 'n').then(s => parse(s).value), (await b.pending()).map(p => !!p.sent)], [11, [true, false]], 'while answers are lost')
  await control('do', 'remove')
  await control('others', 'n {"op":"put","value":100}')
  await control('do', 'back')
  await until(() => `${v.get()}`, () => v.get() === 101)
  await until(() => v.state().phase, () => v.state().phase === 'refused')
  const left = await b.pending()
  same([left.map(p => p.error?.code), v.state().error.code, v.state().queued], [['too-late'], 'too-late', 0], 'what is refused')
  await b.discard(left[0].id)
  await until(() => v.state().phase, () => v.state().phase === 'current')
  same([(await v.lookup()).value, (await b.pending()).length, problems.filter(c => c === 'too-late').length], [101, 0, 1], 'in the end')
  b.close()
})

// Without a network: the value with all queued changes, records under ids of their own, a conflict that the user
// decides, and what is shown in the next visit.
export const offline = test(async origin => {
  const { link, control } = await site(origin), open = more => join(link, { ...quick, patience: 200, offline: true, ...more })
  let b = open()
  const litres = int('litres', 0), notes = records('notes', { text: '' }), v = b.on(litres), r = b.records(notes)
  await b.ready()
  await v.set(10)
  await r.add({ text: 'first' })
  await control('do', 'cut')
  await until('not stale', () => v.state().phase === 'stale')
  const queued = async f => { try { await f(); return 'stored' } catch (e) { return e.code === 'queued' ? e.id ?? 'queued' : e.code } }
  same([await queued(() => v.add(5)), await queued(() => v.add(-2))], ['queued', 'queued'], 'additions')
  const id = await queued(() => r.add({ text: 'second' }))
  check(/^[0-9a-v]{26}$/.test(id), `an id: ${id}`)
  same([v.get(), v.state().waiting, v.state().queued], [10, 13, 2], 'what it comes to')
  await sleep(1200) // what is known is stored
  b.close()

  b = open()
  const again = b.on(litres), notesAgain = b.records(notes)
  await until(() => `${again.state().phase} ${again.get()}`, () => again.get() === 10 && again.state().queued === 2)
  same([[...notesAgain.all().values()].map(n => n.text), again.state().waiting], [['first'], 13], 'in the next visit')
  check(again.state().asOf instanceof Date && Date.now() - again.state().asOf < 60_000, `as of ${again.state().asOf}`)
  await control('do', 'back')
  await until(() => `${again.get()}`, () => again.get() === 13 && again.state().phase === 'current')
  await until(async () => `${notesAgain.size} ${JSON.stringify(await b.pending())} ${JSON.stringify(await b.call('GET', '/entries'))} ${b.status.way}`, () => notesAgain.size === 2)
  same([...notesAgain.all().values()].map(n => n.text), ['first', 'second'], 'all records')

  // A set that would overwrite somebody's newer value is the user's decision.
  await control('do', 'cut')
  await until('not stale', () => again.state().phase === 'stale')
  await queued(() => again.set(50))
  await control('others', 'litres {"op":"put","value":70}')
  await control('do', 'back')
  await until(() => again.state().phase, () => again.state().phase === 'refused')
  const [p] = await b.pending()
  same([p.error.code, p.mine, p.theirs.value, p.theirs.name], ['conflict', 50, 70, 'litres'], 'mine and theirs')
  await b.retry(p.id)
  await until(() => `${again.get()}`, () => again.get() === 50 && again.state().phase === 'current')
  same((await b.pending()).length, 0, 'pending')

  // An operation with a check is checked when it is sent.
  const even = b.on(int('even', 0, { check: x => x % 2 ? 'Enter an even number.' : '' }))
  await until('not known', () => even.state().phase === 'current')
  await control('do', 'cut')
  await until('not stale', () => even.state().phase === 'stale')
  await queued(() => even.add(2))
  await control('others', 'even {"op":"put","value":7}')
  await control('do', 'back')
  await until('it is not refused', async () => (await b.pending())[0]?.error)
  same([(await b.call('GET', '/entries/even')).value, (await b.pending()).map(p => p.error?.code)], [7, ['invalid']], 'nothing that the check refuses')
  b.close()
})

// A change that is queued while another change of the page is being answered does not conflict with it.
const ownBaseOf = unseen => test(async origin => {
  const { link } = await site(origin), real = globalThis.fetch
  let answer, offline = false // only reads fail then
  const answered = new Promise(done => { answer = done })
  globalThis.fetch = async (...a) => {
    const write = a[1]?.method === 'POST'
    if (offline && !write) throw new TypeError('there is no network')
    const got = await real(...a)
    if (write) await answered
    else if (offline) throw new TypeError('the network is gone')
    return got
  }
  try {
    const b = join(link, { ...quick, patience: 20_000, offline: true, push: false }), v = b.on(int('hour', 0))
    await b.ready()
    await b.pending() // the queue is open, so that the first change leaves before the network is found to be gone
    const first = v.set(7)
    offline = true
    if (unseen) { // the answer comes too late to be shown
      b.on(int('minute', 0))
      answer()
      await first
      same(v.get(), 0, 'what is shown')
    }
    await until(() => `${b.status.way} ${v.state().phase} ${b.status.error}`, () => b.status.error)
    same(await v.set(8).then(() => 'stored', e => e.code), 'queued', 'the second change')
    answer()
    await first
    offline = false
    await until(async () => `${v.get()} ${JSON.stringify(await b.pending())} ${b.status.error}`, async () => v.get() === 8 && (await b.pending()).length === 0)
    b.close()
  } finally { globalThis.fetch = real }
})
export const ownBase = ownBaseOf(false), ownUnseenBase = ownBaseOf(true)

// Two tabs share what waits: each for the test in Go, which closes one of them.
export const tab = (link, n) => test(async () => {
  const b = globalThis.tabBoard ??= join(link, { ...quick, patience: 200, offline: true }), v = globalThis.tabVar ??= b.on(int('n', 0))
  for (let i = 0; i < n; i++) await v.add(1).catch(e => same(e.code, 'queued', 'an addition'))
})()
export const tabHas = n => test(() => until(async () => `${JSON.stringify(await globalThis.tabBoard.pending())} ${JSON.stringify(globalThis.tabVar.state())} are pending`, async () => (await globalThis.tabBoard.pending()).length === n && globalThis.tabVar.state().queued === n))()
export const tabShows = n => test(() => until(() => `${globalThis.tabVar.get()}`, async () => globalThis.tabVar.get() === n && (await globalThis.tabBoard.pending()).length === 0))()
