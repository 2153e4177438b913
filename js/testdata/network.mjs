// The network, and what is shown meanwhile: what the cases can't say as data. Each function returns what failed, or nothing.

import { join, bool, bytes, int, float, list, map, text, time, parse, BoardError } from '/small-pantry.js'
import { sleep, until, check, same, site, quick, test } from '/testdata/common.mjs'

// A callback and an iterator are told the first value and each newer one, the last always.
export const watching = test(async origin => {
  const { link, control } = await site(origin), b = join(link, quick), v = b.on(int('n', 0)), told = [], slow = []
  const stop = v.watch(s => told.push(s.value))
  same(told, [0], 'told at once')
  let resume
  const changed = new Promise(f => { resume = f })
  const walk = (async () => {
    for await (const s of v.watch()) {
      slow.push(s.value)
      await changed // the first body runs until all changes have come
    }
  })()
  await b.ready()
  for (let n = 1; n <= 20; n++) await control('others', `n {"op":"put","value":${n}}`)
  await until(() => `${told}`, () => told.at(-1) === 20)
  resume()
  await until(() => `${slow}`, () => slow.at(-1) === 20)
  same(slow, [0, 20], 'a slow body gets the first value and the last')
  stop()
  await control('others', 'n {"op":"put","value":21}')
  await until('it does not follow', () => v.get() === 21)
  check(told.at(-1) === 20, 'it is told after it was stopped')
  await v.set(22)
  await until('not mine', () => v.state().mine && v.state().phase === 'current')
  const both = [], stopBoth = b.watch('', changed => both.push(...changed.keys()))
  await control('others', 'other {"op":"put","value":1}')
  await until(() => `${both}`, () => both.includes('n') && both.includes('other'))
  await control('others', 'other {"op":"drop"}')
  await until(() => `${both}`, () => both.filter(n => n === 'other').length === 2)
  stopBoth()
  b.close()
  await walk
  let closed
  try { await v.set(1) } catch (e) { closed = e }
  same(closed?.code, 'closed', 'a closed board')
})

// An app of many variables asks for all of the board, where their names would be too long a query.
export const many = test(async origin => {
  const { link } = await site(origin), b = join(link, quick), all = []
  const real = globalThis.fetch
  let longest = 0
  globalThis.fetch = (...a) => {
    longest = Math.max(longest, a[0].length)
    return real(...a)
  }
  for (let i = 0; i < 400; i++) all.push(b.on(int(`a/rather/long/name/of/a/bed/in/the/garden/${i}`, i)))
  await b.ready()
  await all[399].set(5)
  await until('not shown', () => all[399].get() === 5)
  same(all[7].get(), 7, 'a default')
  globalThis.fetch = real
  check(longest < 8500, `a query has ${longest} bytes`)
  b.close()
})

// Each addition of several clients counts once, while answers are lost, connections break, and the
// server restarts.
export const lossy = test(async (origin, soak) => {
  const each = soak ? 25 : 4
  const { link, control } = await site(origin), clients = [0, 1, 2, 3].map(() => join(link, { ...quick, patience: 1500, offline: true })), vars = clients.map(b => b.on(int('sum', 0))), lists = clients.map(b => b.on(list('log', [])))
  await Promise.all(clients.map(b => b.ready()))
  let over = false, sum = 0
  const trouble = (async () => {
    for (let i = 0; !over && (soak || i < 16); i++) { // a slow machine ends it before the calls do
      await control('do', ['lose 2', 'drop', 'busy', 'cut', 'restart', 'lose 1', 'no streams', 'broken'][i % 8])
      await sleep(60)
      if (i % 2) await control('do', 'back')
    }
    await control('do', 'back')
  })()
  const queued = e => { if (!/^(queued|unreachable|uncertain|unavailable)$/.test(e.code)) throw e }
  await Promise.all(vars.map(async (v, c) => {
    for (let i = 0; i < each; i++) {
      sum++
      await v.add(1).catch(queued)
      await lists[c].append(`${c}-${i}`).catch(queued)
    }
  }))
  over = true
  await trouble
  await until(async () => `pending: ${(await Promise.all(clients.map(b => b.pending()))).map(p => p.length)}`, async () => (await Promise.all(clients.map(b => b.pending()))).every(p => p.length === 0))
  await Promise.all(vars.map(v => until(() => `${v.get()} of ${sum}`, () => v.get() === sum)))
  const log = (await lists[0].lookup()).value
  same([log.length, new Set(log).size], [4 * each, 4 * each], 'each item once')
  for (let c = 0; c < 4; c++) same(log.filter(x => x.startsWith(`${c}-`)), Array.from({ length: each }, (_, i) => `${c}-${i}`), 'in order')
  clients.forEach(b => b.close())
})

// A hidden page asks nothing, and goes on without a gap.
export const hidden = test(async origin => {
  const { link, control } = await site(origin), b = join(link, quick), v = b.on(int('n', 0))
  await b.ready()
  await v.set(1)
  const show = is => {
    Object.defineProperty(document, 'hidden', { value: !is, configurable: true })
    document.dispatchEvent(new Event('visibilitychange'))
  }
  show(false)
  await sleep(50)
  const before = performance.getEntriesByType('resource').length
  await control('others', 'n {"op":"put","value":2}')
  await control('others', 'n {"op":"put","value":3}')
  await sleep(400)
  same(v.get(), 1, 'while hidden')
  check(performance.getEntriesByType('resource').filter(e => e.name.includes('/v1/')).length <= before, 'it asks while it is hidden')
  show(true)
  await until('it does not go on', () => v.get() === 3)
  b.close()
  show(false)
  const c = join(link, quick), w = c.on(int('n', 0))
  await sleep(300)
  same(w.state().phase, 'unknown', 'a page that is opened in the back')
  show(true)
  await until('it does not begin', () => w.get() === 3)
  c.close()
})

// Where nothing can be kept, what can be sent is sent.
export const nowhere = test(async origin => {
  const { link, control } = await site(origin), problems = []
  const b = join(link, { ...quick, patience: 200, offline: true, onProblem: e => problems.push(e) }), v = b.on(int('n', 0))
  await b.ready()
  same(await v.add(5), 5, 'sent')
  check(problems.length > 0, 'that nothing can be kept is a problem')
  await control('do', 'cut')
  let bad
  try { await v.add(5) } catch (e) { bad = e }
  same(bad?.code, 'unreachable', 'it is not told as queued')
  await control('do', 'back')
  b.close()
})

// Answers come late, in any order: no variable goes back to something older, what is stored is
// never told as absent, what a call has stored is shown when it returns, and all is as the server has it.
export const order = test(async (origin, soak) => {
  const real = globalThis.fetch
  globalThis.fetch = async (...a) => {
    const answer = await real(...a)
    if (/\/v1\//.test(a[0])) await sleep(Math.random() * 60)
    return answer
  }
  try {
    for (let round = 0; round < (soak ? 12 : 4); round++) {
      const { link, control } = await site(origin), names = ['a', 'b', 'c', 'd'], vars = {}, newest = {}, bad = []
      for (const n of names) await control('others', `${n} {"op":"put","value":1}`)
      const b = join(link, { ...quick, push: round % 2 > 0, fast: 5, slow: 10 }), writes = []
      const bind = n => {
        vars[n] = b.on(int(n, 0))
        vars[n].watch(s => {
          if (s.phase === 'current' && !s.found) bad.push(`${n} is told as absent`)
          if (s.found && s.version < newest[n]) bad.push(`${n} goes from version ${newest[n]} back to ${s.version}`)
          if (s.found) newest[n] = s.version
        })
      }
      const set = (n, i) => {
        const from = newest[n] ?? 0
        writes.push(vars[n].set(i).then(() => { if (!(newest[n] > from)) bad.push(`${n} does not show what is stored`) }))
      }
      for (let i = 2; i < 42; i++) {
        const fresh = i % 9 === 2 && names[(i - 2) / 9]
        if (fresh) {
          bind(fresh)
          for (let k = 0; k < 3; k++) set(fresh, 1000 * i + k) // before anything is known of it
        }
        const n = names[Math.floor(Math.random() * 4)]
        if (Math.random() < 0.6 || !vars[n]) await control('others', `${n} {"op":"put","value":${i}}`)
        else {
          set(n, i)
          if (Math.random() < 0.7) await writes.at(-1)
        }
        if (bad.length) break
      }
      await Promise.all(writes)
      same(bad.slice(0, 3), [], 'wrong')
      await until(() => 'it does not end up as the server is', async () => (await Promise.all(names.map(async n => parse(await control('holds', n)).value === vars[n].get()))).every(x => x))
      b.close()
    }
  } finally { globalThis.fetch = real }
})

// Two keys of one name don't disturb each other, a callback that throws disturbs nothing else, and
// a server that wants no call gets none.
export const odd = test(async origin => {
  const { link, control } = await site(origin), b = join(link, quick), n = b.on(int('n', 1)), t = b.on(text('n', 'none')), told = []
  await b.ready()
  await n.set(5)
  same([n.get(), n.state().phase, t.get(), t.state().phase], [5, 'current', 'none', 'unreadable'], 'two keys')
  await control('others', 'big {"op":"put","value":1152921504606846976}')
  const big = b.on(float('big', 0))
  await until('not read', () => big.state().found)
  same([typeof big.get(), big.get() === 2 ** 60], ['number', true], 'an int that a float holds exactly')
  const raw = b.on(bytes('raw', new Uint8Array())), at = b.on(time('at', new Date(0))), m = b.on(map('m', {}))
  const all = Uint8Array.from({ length: 256 }, (_, i) => i), when = new Date(1777799564123), deep = { '': true, a: [1, 2.5, null, 'x', { n: 2n ** 62n }] }
  await b.commit([raw.op.set(all), at.op.set(when), m.op.set(deep)])
  same([[...raw.get()], at.get().getTime(), m.get()], [[...all], when.getTime(), deep], 'bytes, a time and a map')
  same([(await raw.lookup()).value instanceof Uint8Array, (await at.lookup()).value instanceof Date], [true, true], 'their types')
  let whole
  try { await b.commit([n.op.add(1), at.op.clear(), m.op.clear(), t.op.append('x')]) } catch (e) { whole = e }
  same([whole?.code, whole?.at, n.get(), at.state().found], ['wrong-kind', 3, 5, true], 'all or none')
  const told1 = []
  const other = join(link, { ...quick, name: 'othér', declare: [int('tank/litres', 0, { min: 0, max: 5000 })] })
  await other.ready()
  await until('not declared', async () => (await other.call('GET', '/keys')).keys.some(k => k.name === 'tank/litres' && k.by === 'othér' && k.max === 5000))
  const third = join(link, { ...quick, declare: [float('tank/litre', 0.5), bool('tank/litres', false)], onProblem: e => told1.push(e.code) })
  await until(() => `${told1}`, () => told1.includes('kind'))
  other.close()
  third.close()
  const plain = []
  join('http://192.0.2.1/boards/b', { onProblem: e => plain.push(e.code) }).close()
  const open = join('http://192.0.2.1/boards/b', { onProblem: e => plain.push(e.code) })
  await sleep(20)
  same(plain, ['plain'], 'a link that others can read along')
  open.close()
  const l = b.on(list('l', ['a']))
  l.get().push('spoilt')
  await l.append('b')
  l.get().push('spoilt')
  same(l.get(), ['a', 'b'], "what get gives is the caller's own")
  let far
  try { await b.on(int('far', 0)).set(2n ** 63n) } catch (e) { far = e }
  same([far?.code, far?.status ?? 0], ['invalid', 0], 'an int past 64 bits, refused here')
  const three = [0, 1, 2].map(() => join(link, quick))
  await Promise.all(three.map(async c => {
    const v = c.on(int('sum', 0))
    for (let i = 0; i < 8;) await v.update(old => old + 1).then(() => i++, e => check(e.code === 'conflict', e.code))
  }))
  same((await three[0].on(int('sum', 0)).lookup()).value, 24, 'updates of several')
  let tried = 0
  await three[0].on(int('sum', 0)).update(async old => {
    if (!tried++) await control('others', 'sum {"op":"put","value":50}')
    return old + 1
  })
  same([tried, (await three[0].on(int('sum', 0)).lookup()).value], [2, 51], 'an update that somebody was faster than')
  three.forEach(c => c.close())
  let thrown = 0
  process.on('uncaughtException', () => thrown++)
  let first = true
  n.watch(() => {
    if (first) return void (first = false)
    throw new Error('an app that fails')
  })
  n.watch(s => told.push(s.value))
  await n.set(6)
  await control('others', 'n {"op":"put","value":7}')
  await until(() => `${told}`, () => told.at(-1) === 7)
  await until('the app is not told of what it throws', () => thrown > 1)
  const problems = [], d = join(link, { ...quick, timeout: 300, patience: 300, onProblem: e => problems.push(e.code) }), v = d.on(int('n', 0))
  await d.ready()
  await control('do', 'silent')
  let silent
  const from = Date.now()
  try { await v.set(1) } catch (e) { silent = e }
  same(silent?.code, 'unreachable', 'a server that says nothing')
  check(Date.now() - from < 5000, `it is waited for ${Date.now() - from} ms`)
  await control('do', 'cut')
  await sleep(400)
  same(problems, ['unreachable'], 'an outage is told once')
  await control('do', 'back')
  await until('it does not come back', () => v.state().phase === 'current')
  d.close()
  const real = globalThis.fetch, calls = []
  globalThis.fetch = (...a) => {
    if (a[0].includes('/commit')) calls.push(Date.now())
    return real(...a)
  }
  await control('do', 'busy')
  await n.add(1)
  globalThis.fetch = real
  check(calls[1] - calls[0] > 900, `it is called again after ${calls[1] - calls[0]} ms`)
  b.close()
})

// Thousands of removals arrive, page by page, and leave nothing. An answer about other ops is refused.
// Streams that don't work are not tried again and again.
export const edges = test(async origin => {
  const { link, control } = await site(origin), b = join(link, { ...quick, push: false }), all = new Map()
  b.watch('', changed => { for (const [n, e] of changed) e ? all.set(n, e) : all.delete(n) })
  const n = b.on(int('n', 0))
  await n.set(1)
  for (const half of [0, 1]) await b.commit(Array.from({ length: 1000 }, (_, i) => ({ op: 'put', name: `bed/${half}/${i}`, json: `{"op":"put","name":"bed/${half}/${i}","value":${i}}` })))
  await until(() => `${all.size}`, () => all.size === 2001)
  b.pause()
  await control('others', 'n {"op":"add","amount":1},{"op":"reset","prefix":"bed/"}')
  await sleep(100)
  b.resume()
  await until(() => `${all.size}`, () => all.size === 1 && n.get() === 2)
  let first
  b.watch('', changed => { first ??= [...changed.keys()] })()
  same(first, ['n'], 'a new watch is told of what is there')

  const d = join(link, { ...quick, push: false }), was = d.on(int('other', 0))
  await d.ready()
  const stop = d.watch('bed/', () => {})
  await control('others', 'n {"op":"put","value":3},{"op":"put","name":"bed/1","value":1}')
  await sleep(200)
  stop()
  let told
  d.watch('bed/', changed => { told ??= [...changed.keys()] })()
  same(told, [], 'what nobody watched any more is not told as if it were known')
  same(was.get(), 0, 'another')
  d.close()

  const held = n.get()
  for (const [f, code] of [[() => n.setIf({}, 5), 'invalid'], [() => n.setIf(undefined, 5), 'invalid'], [() => b.commit(n.op.add(1)), 'invalid'], [() => b.commit([{}]), 'invalid'], [() => b.commit(), 'invalid']]) {
    let e
    try { await f() } catch (bad) { e = bad }
    same([e instanceof BoardError, e?.code, n.get()], [true, code, held], String(f))
  }

  // A Retry-After is a date, or the wall clock is set back meanwhile: the change is sent.
  let refused = 0
  const real = globalThis.fetch
  globalThis.fetch = async (...a) => a[0].includes('/commit') && !refused++
    ? new Response('{"code":"rate-limited","detail":"too often"}', { status: 429, headers: { 'Retry-After': new Date(Date.now() + 2000).toUTCString() } }) : real(...a)
  const asked = Date.now(), r = join(link, { ...quick, patience: 5000, push: false }), rn = r.on(int('n', 0))
  await rn.set(2)
  check(refused === 2 && Date.now() - asked > 500, `a date in Retry-After: ${refused} calls in ${Date.now() - asked} ms`)
  const wall = Date.now
  globalThis.fetch = async (...a) => {
    if (!a[0].includes('/commit') || refused++ > 2) return real(...a)
    setTimeout(() => { Date.now = () => wall() - 3600e3 }, 15)
    return new Response('{"code":"rate-limited","detail":"too often"}', { status: 429, headers: { 'Retry-After': '1' } })
  }
  const late = setTimeout(() => { throw new Error('nothing is sent after the clock was set back') }, 20000)
  await rn.set(3)
  clearTimeout(late)
  Date.now = wall
  r.close()

  globalThis.fetch = async (...a) => {
    const answer = await real(...a)
    return a[0].includes('/commit') ? new Response((await answer.text()).replace(/"results":.*/, '"results":[]}'), answer) : answer
  }
  let bad
  try { await n.set(5) } catch (e) { bad = e }
  same(bad?.code, 'unexpected', 'an answer without results')
  const streams = []
  globalThis.fetch = (...a) => {
    if (a[0].includes('/events')) streams.push(a[0])
    return real(...a)
  }
  await control('do', 'no streams')
  const c = join(link, quick), m = c.on(int('n', 0))
  await c.ready()
  for (let i = 10; i < 20; i++) {
    await control('others', `n {"op":"put","value":${i}}`)
    await until('it does not follow', () => m.get() === i)
  }
  same([streams.length, c.status.way], [1, 'wait'], 'streams that were tried')
  globalThis.fetch = real
  b.close()
  c.close()
})

// ready ends: when its time is over, with its signal, when the link is refused, and when the board is closed.
export const readiness = test(async origin => {
  const { link, control } = await site(origin), ends = async p => { try { await p; return 'ok' } catch (e) { return e.code } }
  const nowhere = join('http://127.0.0.1:1/boards/b', { ...quick, timeout: 300 })
  nowhere.on(int('n', 0))
  same([await ends(nowhere.ready()), await ends(nowhere.ready({ signal: AbortSignal.abort() })), await ends(nowhere.ready({ timeout: 20 }))], ['unreachable', 'unreachable', 'unreachable'], 'without a server')
  nowhere.close()
  same(await ends(nowhere.ready()), 'closed', 'a closed board')
  await control('do', 'silent')
  const silent = join(link, { ...quick, timeout: 200 })
  silent.on(int('n', 0))
  same(await ends(silent.ready()), 'unreachable', 'a silent server')
  await control('do', 'back')
  same(await ends(silent.ready({ timeout: 20000 })), 'ok', 'a server that came back')
  silent.close()
})

// A way to the server that loses what is asked does not make the client ask without end.
export const storm = test(async origin => {
  const { link, control } = await site(origin), real = globalThis.fetch, problems = []
  let asked = 0
  globalThis.fetch = (url, ...more) => {
    asked++
    return real(url.replace(/[&?]since=[^&]*/g, ''), ...more)
  }
  try {
    const b = join(link, { ...quick, fast: 2000, onProblem: e => problems.push(e.code) }), v = b.on(int('n', 0))
    await b.ready()
    for (let i = 0; i < 20; i++) await control('others', `n {"op":"put","value":${i}}`)
    await sleep(3000)
    check(asked < 75, `${asked} requests in three seconds`)
    await until(() => `${v.get()}`, () => v.get() === 19)
    b.close()
  } finally { globalThis.fetch = real }
})
