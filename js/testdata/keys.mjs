// Keys and what they hold: what the cases can't say as data. Each function returns what failed, or nothing.

import { join, bool, bytes, family, float, int, list, map, oneOf, records, text, time, parse, write, BoardError } from '/small-pantry.js'
import { until, check, same, site, quick, test } from '/testdata/common.mjs'

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
