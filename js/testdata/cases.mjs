// Runs the cases that every client must pass, here and in a page alike.

import * as pantry from '/small-pantry.js'

const until = async (what, is) => {
  for (const end = Date.now() + 40_000; Date.now() < end; await new Promise(f => setTimeout(f, 5))) if (await is()) return
  throw new Error(await what())
}

/** control(board, action, body) has the server do something, and gives its answer. */
export async function run(c, link, control) {
  const { kind, name, default: fallback, ...rules } = c.key, key = rules.choices ? pantry.oneOf(name, ...rules.choices) : pantry[kind](name, fallback, rules)
  const fails = !c.patient && c.steps.some(s => ['unreachable', 'unexpected', 'uncertain', 'unavailable', 'queued'].includes(s.is))
  const problems = [], patience = fails ? 3000 : 40000 // long, unless the case has a call that fails
  const board = pantry.join(link, { fast: 20, slow: 100, patience, timeout: c.timeout || undefined, offline: !!c.offline, onProblem: e => problems.push(e.code) })
  const v = board.on(key)
  let seen, at
  const shows = want => pantry.write(v.get()) === pantry.write(want)
  const is = (e, code) => e?.code === code || code === 'invalid' && e?.code === 'out-of-range'
  const check = (ok, what) => { if (!ok) throw new Error(what) }
  const operations = {
    see: () => { seen = v.state() },
    setIf: s => v.setIf(seen, s.x),
    update: s => v.update(old => typeof old === 'bigint' || typeof s.x === 'bigint' ? reduced(BigInt(old) + BigInt(s.x)) : old + s.x),
    lookup: () => v.lookup(),
    take: s => v.take(s.at ?? 0),
    append: s => v.append(s.x, { unique: s.unique }),
    remove: s => v.remove(s.x, { all: s.all }),
    clear: () => v.clear(),
  }
  const reduced = n => Number.isSafeInteger(Number(n)) ? Number(n) : n
  try {
    await board.ready()
    for (const [i, s] of c.steps.entries()) {
      at = `step ${i} ${pantry.write(s)}`
      if (s.server) { await control('do', s.server); continue }
      const met = () => problems.filter(c => c === s.problem).length
      if (s.problem) {
        await until(() => `${problems}`, () => met() >= (s.problems ?? 0))
        check(met() === (s.problems ?? 0), `${problems}`)
      } else if (/pause|resume/.test(s.do)) board[s.do]()
      else if (s.others) await control('others', `${s.name ?? name} ${pantry.write(s.others)}`)
      else if (s.until) await until(() => `it is ${v.state().phase} ${pantry.write(v.get())} ${v.state().error?.code ?? ''}`, () => v.state().phase === s.until && (s.now === undefined || shows(s.now)) && (!s.error || v.state().error?.code === s.error))
      else if (s.pending !== undefined) await until(async () => `${(await board.pending()).length} are pending`, async () => (await board.pending()).length === s.pending)
      else if (s.do === 'holds') check((await control('holds', name)).includes(`"kind":"${s.kind}","value":${s.json},`), 'it holds something else')
      else if (s.do === 'discard') await board.discard((await board.pending())[0].id)
      else {
        let got, bad
        try { got = await (operations[s.do] ?? (s => v[s.do](s.x)))(s) } catch (e) { bad = e }
        check(s.is ? is(bad, s.is) : !bad, bad ? `${bad.code}: ${bad.message} ${bad.stack}` : 'there was no error')
        check(s.found === undefined || got.found === s.found, `found is ${got?.found}`)
        check(s.item === undefined || got.item === s.item, `the item is ${got?.item}`)
        check(s.now === undefined || shows(s.now), `it shows ${pantry.write(v.get())}`)
        continue
      }
      if (s.now !== undefined) await until(() => `it shows ${pantry.write(v.get())}`, () => shows(s.now))
    }
    return ''
  } catch (e) {
    return `${c.what}: ${at}: ${e.message}`
  } finally { board.close() }
}

/** Runs the cases of a file against the server at origin; those with a queue only where there is IndexedDB. */
export async function runAll(origin) {
  const failed = [], todo = []
  let ran = 0
  for (const file of ['operations', 'trouble']) {
    for (const c of pantry.parse(await (await fetch(`${origin}/cases/${file}.json`)).text())) {
      if (!c.offline || globalThis.indexedDB) todo.push(c)
    }
  }
  const next = async () => {
    for (let c; c = todo.shift();) {
      const link = await (await fetch(`${origin}/control/new`, { method: 'POST' })).text()
      const board = link.split('/').pop()
      const control = async (verb, body) => (await fetch(`${origin}/control/${verb}?board=${board}`, { method: 'POST', body })).text()
      const bad = await run(c, link, control)
      await control('do', 'back')
      if (bad) failed.push(bad)
      ran++
    }
  }
  await Promise.all(Array.from({ length: 10 }, next)) // some cases mostly wait
  return JSON.stringify({ ran, failed })
}
