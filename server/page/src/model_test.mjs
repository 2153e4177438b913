// Tests of model.js: node model_test.mjs MODEL, where MODEL is the bundled module. It prints the first
// failure and exits with 1.

import assert from 'node:assert/strict'

const m = await import(process.argv[2])
const now = Date.parse('2026-05-03T15:00:00')
const ago = (h, min = 0) => new Date(now - h * 36e5 - min * 6e4).toISOString()

// Numbers keep every digit.
for (const text of ['5.0', '9007199254740993', '[1,2.50,{"a":-0.0}]', '{"a":null,"b":"x"}']) assert.equal(m.json(m.parse(text)), text)
assert.equal(m.json({ a: undefined, b: 1 }), '{"b":1}')
for (const [x, shown] of [[3130, '3,130'], [-12345.678, '−12,345.678'], [m.parse('9007199254740993'), '9,007,199,254,740,993'], [1e21, '1e+21'], [0, '0'], [999, '999']]) assert.equal(m.grouped(x), shown)
for (const [typed, plain] of [['12,000', '12000'], ['−5', '-5'], [' 7 ', '7'], ['1,2', '1,2']]) assert.equal(m.plainNumber(typed), plain)
assert.equal(m.whyNoNumber('4.5', 'int'), 'This takes a whole number, such as 42.')
assert.equal(m.whyNoNumber('5001', 'int', { min: 0, max: 5000 }), 'This takes a whole number from 0 to 5,000.')
assert.equal(m.whyNoNumber('-50', 'int', { min: 0, max: 5000 }, true), '')
assert.equal(m.whyNoNumber('1e3', 'float'), '')
for (const [kind, min, max, step] of [['int', 0, 5000, 50], ['int', 0, 23, 1], ['float', 0, 1, 0.01], ['int', 0, 10000, 100], ['float', 0, 700, 5], ['int', undefined, undefined, 1]]) assert.equal(m.stepOf(kind, min === undefined ? undefined : { min, max }), step)

// Texts.
assert.equal(m.visible('a\u202eb'), 'a⟨U+202E⟩b')
assert.equal(m.line([1, 'a', { x: true }], 'list'), '1, a, x yes')
assert.equal(m.line('', 'text'), 'empty')
assert.equal(m.line(undefined, undefined), 'nothing')
assert.equal(m.size('AAcOFQ=='), '4 bytes')
assert.equal(m.pictureType('iVBORw0KGgoAAAANSUhEUg'), 'image/png')
assert.equal(m.pictureType('AAcOFQ=='), '')

// Times.
for (const [t, text] of [[ago(0), 'just now'], [ago(0, 0.2), '12 s ago'], [ago(0, 4), '4 min ago'], [ago(1, 10), '1 h ago'], [ago(6), '9:00'], [ago(20), 'yesterday 19:00'], [ago(24 * 10), 'Apr 23'], [ago(24 * 300), 'Jul 7, 2025']]) assert.equal(m.age(t, now), text)
assert.equal(m.when(ago(6), now), 'Today, 9:00')
assert.equal(m.when(ago(-24), now), 'Tomorrow, 15:00')

// Names.
for (const [names, sorted] of [['b10 b9 B1 a', 'a B1 b9 b10'], ['tank/10/x tank/9/x tank', 'tank tank/9/x tank/10/x'], ['z é a', 'a é z'], ['gate-2 gate/1 gate', 'gate gate-2 gate/1']]) assert.equal(m.sortNames(names.split(' ')).join(' '), sorted)
assert.deepEqual(m.groups(m.sortNames(['tank/b', 'tank/a10', 'tank/a9', 'gate/x', 'solo'])), [{ id: 'tank', firsts: ['tank'], names: ['tank/a9', 'tank/a10', 'tank/b'] }, { id: ' ', firsts: ['gate', 'solo'], names: ['gate/x', 'solo'] }])
for (const [name, is] of [['tank/litre', 'tank/litres'], ['tank/Litres', 'tank/litres'], ['tank/litrse', 'tank/litres'], ['tank/litrex', 'tank/litres'], ['tanks/litres', 'tank/litres'], ['tank/level', undefined], ['watered/B4', undefined], ['hose/litres', undefined], ['tank/litres', undefined]]) assert.equal(m.near(name, ['tank/litres', 'watered/C4']), is, name)

// History.
const change = (name, old, now) => ({ name, old, old_kind: old === null ? undefined : 'int', new: now, new_kind: now === null ? undefined : 'int' })
const commits = [
  { version: 4, at: ago(1), by: 'Ida', changes: [change('a', 3, 4)] },
  { version: 3, at: ago(2), by: 'tankwatch', changes: [change('a', 2, 3), change('b', 7, null)] },
  { version: 2, at: ago(3), changes: [change('b', null, 7)] },
]
const by = m.changesByName(commits), present = { name: 'a', kind: 'int', value: 4 }
assert.equal(m.entryAt(present, by.get('a'), now), present)
assert.equal(m.entryAt(present, by.get('a'), now - 1.5 * 36e5).value, 3)
assert.equal(m.entryAt(present, by.get('a'), now - 1.5 * 36e5).by, 'tankwatch')
assert.equal(m.entryAt(present, by.get('a'), now - 9 * 36e5).value, 2)
assert.equal(m.entryAt(undefined, by.get('b'), now - 2.5 * 36e5).value, 7)
assert.equal(m.entryAt(undefined, by.get('b'), now - 9 * 36e5), undefined)
assert.equal(m.entryAt(present, undefined, 0), present)
assert.ok(m.isOlder(commits, 2, now - 9 * 36e5))
assert.ok(!m.isOlder(commits, undefined, now - 9 * 36e5))
assert.deepEqual(m.merged([{ version: 5, seen: true }, { version: 3 }, { version: 2 }], [{ version: 4 }, { version: 3 }]).map(c => c.version), [5, 4, 3, 2])
assert.deepEqual(m.points(present, by.get('a'), now - 2.5 * 36e5, now).map(p => p[1]), [2, 3, 4])
assert.deepEqual(m.points(present, [], 0, now).map(p => p[1]), [4])
assert.equal(m.stepPath([[0, 1], [5, 3]], 0, 10, 100, 34), 'M0 32H50V2H100')
assert.equal(m.stepPath([[0, 1], [5, 1]], 0, 10, 100, 34), '')
const quick = Array.from({ length: 9 }, (_, i) => ({ ...change('a', 10 - i, 11 - i), at: now - i * 6e4, version: 20 - i }))
assert.deepEqual(m.fold(quick).map(r => r.length), [1, 1, 7])
assert.deepEqual(m.fold(quick.map((c, i) => ({ ...c, at: now - i * 36e5 * 2 }))).map(r => r.length), Array(9).fill(1))
assert.deepEqual(m.marks(now - 864e5, now, 'day').map(x => x[1]), ['18:00', '0:00', '6:00', '12:00'])

// Editing keeps what it does not change.
for (const text of ['["C4",5,5.0,"5",[1],{"a":null}]', '{"crop":"beans","spacing":30.0}', '[]', '[9007199254740993]']) assert.equal(m.fromNode(m.toNode(m.parse(text))), text)
const list = m.toNode(m.parse('[5.0]'))
list.v[0].v = '7'
assert.equal(m.fromNode(list), '[7.0]')
assert.equal(m.fromNode({ k: 'number', v: '007' }), '7')
assert.throws(() => m.fromNode({ k: 'number', v: 'x' }), /This takes a number/)
assert.throws(() => m.fromNode({ k: 'map', v: [{ name: 'a', node: { k: 'null' } }, { name: 'a', node: { k: 'null' } }] }), /Two members/)
assert.deepEqual(m.blankLike(m.toNode({ crop: 'beans', n: 3 })), m.toNode({ crop: '', n: 3 }) && { k: 'map', v: [{ name: 'crop', node: { k: 'text', v: '' } }, { name: 'n', node: { k: 'number', v: '', float: false } }] })
for (const [op, text] of [['{"op":"put","value":true,"kind":"bool"}', 'yes'], ['{"op":"add","amount":-10}', '−10'], ['{"op":"add","amount":2.0}', '+2.0'], ['{"op":"append","item":"C4"}', '+ C4'], ['{"op":"drop"}', 'removed'], ['{"op":"put","typed":"3000"}', '3000']]) assert.equal(m.opText({ json: op }), text)
