// What the cases can't say as data. Each function gives JSON of what failed.

import { join, bool, bytes, family, int, float, list, map, oneOf, records, text, time, parse, write, BoardError } from '/small-pantry.js'

const sleep = ms => new Promise(f => setTimeout(f, ms))
const until = async (what, is) => {
  for (const end = Date.now() + 50000; Date.now() < end; await sleep(5)) if (await is()) return
  throw new Error(typeof what === 'function' ? await what() : what)
}
const check = (ok, what) => { if (!ok) throw new Error(what) }
const same = (a, b, what) => check(write(a) === write(b), `${what}: ${write(a)} is not ${write(b)}`)
const site = async origin => {
  const link = await (await fetch(`${origin}/control/new`, { method: 'POST' })).text(), board = link.split('/').pop()
  return { link, control: async (verb, body) => (await fetch(`${origin}/control/${verb}?board=${board}`, { method: 'POST', body })).text() }
}
const quick = { fast: 20, slow: 100, patience: 40_000, onProblem() {} }
const test = f => async (...args) => {
  try {
    await f(...args)
    return ''
  } catch (e) { return `${e.message}\n${e.stack}` }
}

// What is read and written again is the same, and no text is taken for a number.
export const values = test(async () => {
  for (const s of ['9007199254740993', '-9223372036854775808', '[9007199254740993,{"a":"9007199254740993"}]', '"\\"9007199254740993"', '"9007199254740993\\\\"', '0.5', '{"__proto__":1}', '12345678901234567890123', '{"9007199254740993":1}'])
    check(write(parse(s)).replace('e+', 'e') === s, `${s} became ${write(parse(s))}`)
  same(parse('[5.0,"5.0",{"a":1e2,"b":7}]', n => String(Number(n)) !== n, n => `<${n}>`), ['<5.0>', '5.0', { a: '<1e2>', b: 7 }], 'numbers kept as they are written')
  same(parse('0.12345678901234567890'), 0.12345678901234568, 'a fraction')
  check(parse('12345678901234567.5') === 12345678901234567.5, 'a long number with a fraction')
  check(Object.getPrototypeOf(parse('{"__proto__":{"x":9007199254740993}}')) === Object.prototype && {}.x === undefined, 'a prototype was set')
  for (const [x, kind, want] of [[5, 'float', '5.0'], [-0, 'float', '-0.0'], [1e21, 'float', '1e+21'], [[1, 2.5], undefined, '[1,2.5]'], [new Uint8Array([0, 255]), 'bytes', '"AP8="'], [new Date(0), 'time', '"1970-01-01T00:00:00.000Z"'], [{ a: undefined, b: null }, 'map', '{"b":null}']])
    check(write(x, kind) === want, `${want} became ${write(x, kind)}`)
  for (const x of [NaN, Infinity, 2 ** 53, new Map(), new Set([1]), Symbol('x'), () => 1, [new Map()]]) {
    let bad
    try { check(write(x) === undefined, `${String(x)} became ${write(x)}`) } catch (e) { bad = e }
    check(!bad || bad.code === 'invalid', `${String(x)}: ${bad}`)
  }
  for (const bad of [() => int('', 0), () => int('a//b', 0), () => int('../x', 0), () => int('a/.', 0), () => int('n', 1.5), () => int('n', 9, { min: 0, max: 5 }), () => join('http://x'), () => join('ftp://x/boards/b'), () => join('http://x/boards/%zz')]) {
    let e
    try { bad() } catch (x) { e = x }
    check(e instanceof BoardError && /^(invalid|link)$/.test(e.code), `${bad} gave ${e}`)
  }
  for (const x of [[new Date()], [{ at: new Date() }]]) {
    let e
    try { write({ value: x }, 'list') } catch (bad) { e = bad }
    check(e?.code === 'invalid', `a time in a list: ${e}`)
  }
  if (globalThis.Buffer) check(write(Buffer.from([0, 255]), 'bytes') === '"AP8="', `a Buffer: ${write(Buffer.from([0, 255]), 'bytes')}`)
})

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

// However the network loses answers, breaks connections, and the server starts anew, each
// addition of several clients counts once.
export const lossy = test(async (origin, soak) => {
  const each = soak ? 25 : 5
  const { link, control } = await site(origin), clients = [0, 1, 2, 3].map(() => join(link, { ...quick, offline: true })), vars = clients.map(b => b.on(int('sum', 0))), lists = clients.map(b => b.on(list('log', [])))
  await Promise.all(clients.map(b => b.ready()))
  let over = false, sum = 0
  const trouble = (async () => {
    for (let i = 0; !over; i++) {
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

// What is removed in thousands is told, page by page, and leaves nothing; an answer that tells of
// other ops is not believed; streams that don't work are not tried again and again.
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

// What users type is read and refused as by the client in Go.
export const typed = test(async origin => {
  const make = { bool: ['b', false], int: ['n', 0], float: ['n', 1], text: ['t', ''], bytes: ['b', new Uint8Array()], time: ['t', new Date(0)], list: ['l', []], map: ['m', {}] }
  const all = await (await fetch(`${origin}/cases/typed.json`)).json(), kinds = { bool, int, float, text, bytes, time, list, map }
  check(all.length > 50, `${all.length} cases`)
  for (const { kind, min, max, choices, typed, shown, sentence } of all) {
    const key = choices ? oneOf('t', ...choices) : kinds[kind](...make[kind], { min, max })
    let got, bad
    try { got = key.format(key.parse(typed)) } catch (e) { bad = e }
    check(sentence ? bad?.message === sentence && bad.code === 'invalid' : got === (shown ?? ''), `${kind} ${write(typed)}: ${got} ${bad}`)
  }
  let even
  try { int('n', 0, { check: x => x % 2 ? 'Enter an even number.' : '' }).parse('3') } catch (e) { even = e.message }
  same(even, 'Enter an even number.', 'the sentence of a check')
})

// Collections: records of objects, and families with the rules of a key.
export const collections = test(async origin => {
  const { link, control } = await site(origin), b = join(link, quick), c = join(link, quick)
  const plantings = records('plantings', { crop: '', beds: [], spacing: 30 }), r = b.records(plantings), others = c.records(plantings)
  await c.ready()
  const ids = []
  for (const crop of ['peas', 'beans', 'leeks']) ids.push(await r.add({ crop, beds: ['C4'], spacing: 20 }))
  check(ids.every((id, i) => /^[0-9a-v]{26}$/.test(id) && !(ids[i - 1] >= id)), `${ids}`)
  await r.put('12', { crop: 'roses', beds: [] })
  await r.put('7', { crop: 'dill', beds: [], spacing: 5 })
  await until(() => `${[...others.all().keys()]}`, () => others.size === 5)
  same([...others.all().keys()], ['7', '12', ...ids], 'in order')
  same([others.get('12'), others.get('none')], [{ crop: 'roses', beds: [], spacing: 30 }, { crop: '', beds: [], spacing: 30 }], 'defaults of members')
  same(others.sorted((x, y) => x.crop.localeCompare(y.crop)).map(([, x]) => x.crop), ['beans', 'dill', 'leeks', 'peas', 'roses'], 'sorted')
  same((await others.update('7', old => ({ ...old, spacing: 8 }))).spacing, 8, 'updated')
  await until('not known here', () => r.get('7').spacing === 8)
  const told = [], lists = [], stop = r.changes((id, { old, now, first }) => told.push([id, old?.spacing ?? 0, now?.spacing ?? 0, first])), stopAll = r.watch((all, changed) => lists.push([all.size, changed.length]))
  await until(() => `${told}`, () => told.length === 5 && told.every(t => t[3]))
  await r.put('7', { crop: 'dill', beds: [], spacing: 9 })
  await until(() => `${told}`, () => told.length === 6)
  await r.drop('7', 'never', ids[0])
  await until(() => `${told}`, () => told.length === 8)
  same([told[5], lists[0], lists.at(-1)], [['7', 8, 9, false], [5, 5], [3, 2]], 'changes')
  stop()
  stopAll()
  for (const [f, code] of [[() => r.put('a/b', {}), 'invalid'], [() => r.update('never', x => x), 'absent'], [() => r.put('x', 5), 'invalid'], [() => b.records(int('n', 0)), 'invalid'], [() => b.on(plantings), 'invalid']]) {
    let e
    try { await f() } catch (bad) { e = bad }
    same(e?.code, code, String(f))
  }
  await control('others', 'plantings/odd {"op":"put","value":{"crop":5}}')
  await until('the odd one is not known', () => others.all().size === 3 && b.status.version === c.status.version)
  check(!others.all().has('odd'), 'a record that can not be used')
  await r.clear()
  await until(() => `${others.size}`, () => others.size === 0)

  const grams = int('harvest/grams', 0, { min: 0, max: 5000 }), f = b.records(family(grams)), g = c.records(family(grams))
  await Promise.all([f.at('Ana').add(200), g.at('Ana').add(250), f.at('Ben / Eva').raise(90), b.on(grams.at('%')).set(1)])
  await until(() => `${[...g.all()]}`, () => g.size === 3 && g.get('Ana') === 450)
  same([[...g.all().keys()], g.sorted((x, y) => y - x).map(([id]) => id), g.get('nobody')], [['%', 'Ana', 'Ben / Eva'], ['Ana', 'Ben / Eva', '%'], 0], 'a family')
  let far
  try { await g.at('Ana').add(4900) } catch (e) { far = e.code }
  same(far, 'out-of-range', 'the bounds of the key')
  b.close()
  c.close()
  const d = join(link, { ...quick, declare: [plantings, family(grams)] })
  await d.ready()
  await until('not declared', async () => (await d.call('GET', '/keys')).keys.filter(k => k.family).length === 2)
  d.close()
})

// An operation on a key with a check stores nothing that the check refuses, also beside others.
export const checks = test(async origin => {
  const { link } = await site(origin), even = { check: x => x % 2 ? 'Enter an even number.' : '' }
  const b = join(link, quick), c = join(link, quick), v = b.on(int('n', 0, even)), w = c.on(int('n', 0, even)), plain = c.on(int('n', 0))
  await Promise.all([b.ready(), c.ready()])
  let bad
  try { await v.add(1) } catch (e) { bad = e }
  same([bad?.code, (await plain.lookup()).found, v.state().phase], ['invalid', false, 'refused'], 'an odd sum')
  await Promise.all([v, w].map(async x => { for (let i = 0; i < 5; i++) await x.add(2) }))
  same((await plain.lookup()).value, 20, 'of two at once')
  await plain.add(1)
  await until('not known', () => v.state().version >= 7)
  try { await v.add(2) } catch (e) { bad = e }
  same([bad.code, (await plain.lookup()).value], ['wrong-kind', 21].map((x, i) => i ? x : bad.code), 'on what somebody else stored')
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

// Mistakes with keys are reported at their first use, once each.
export const firstUse = test(async origin => {
  const { link } = await site(origin), problems = [], b = join(link, { ...quick, onProblem: e => problems.push(`${e.code} ${e.about}`) })
  for (let i = 0; i < 3; i++) {
    b.on(int('best', 0))
    b.on(int('best', 5))
    b.on(text('wifi-password', ''))
    b.on(int('token-count', 0))
    b.on(int('fine', 0, { min: 0, max: 5, about: `${i}` }))
    b.records(records('apiKeys', { key: '' }))
  }
  await b.ready()
  same(problems.sort(), ['secret wifi-password', 'twice best'], 'problems')
  b.close()
})

// Two tabs share what waits: each for the test in Go, which closes one of them.
export const tab = (link, n) => test(async () => {
  const b = globalThis.tabBoard ??= join(link, { ...quick, patience: 200, offline: true }), v = globalThis.tabVar ??= b.on(int('n', 0))
  for (let i = 0; i < n; i++) await v.add(1).catch(e => same(e.code, 'queued', 'an addition'))
})()
export const tabHas = n => test(() => until(async () => `${JSON.stringify(await globalThis.tabBoard.pending())} ${JSON.stringify(globalThis.tabVar.state())} are pending`, async () => (await globalThis.tabBoard.pending()).length === n && globalThis.tabVar.state().queued === n))()
export const tabShows = n => test(() => until(() => `${globalThis.tabVar.get()}`, async () => globalThis.tabVar.get() === n && (await globalThis.tabBoard.pending()).length === 0))()
