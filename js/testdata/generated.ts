// A program with the client that openapi-typescript generates from openapi.json: it writes, reads, adds,
// commits and lists, and gets the problem of a refusal.
import createClient from 'openapi-fetch'
import type { components, paths } from './api.js'

const [base, token] = process.argv.slice(2)
const client = createClient<paths, 'application/json' | 'application/problem+json'>({ baseUrl: base, headers: { Authorization: `Bearer ${token}` } })
const board = 'rowan-street'

function same(want: unknown, got: unknown): void {
  if (JSON.stringify(want) !== JSON.stringify(got)) throw new Error(`want ${JSON.stringify(want)}, got ${JSON.stringify(got)}`)
}

const litres = { path: { board, name: 'tank/litres' } }
const put = await client.PUT('/v1/boards/{board}/entries/{name}', { params: litres, body: 420 })
same(420, put.data?.value)
const key = { 'Idempotency-Key': 'once', 'Client-Instance': '0123456789abcdef0123456789abcdef' }
for (let twice = 0; twice < 2; twice++) {
  const add = await client.POST('/v1/boards/{board}/entries/{name}', { params: { ...litres, header: key }, body: { op: 'add', amount: -10 } })
  same(410, add.data?.value)
}
const got = await client.GET('/v1/boards/{board}/entries/{name}', { params: litres })
const entry: components['schemas']['Entry'] = got.data!
same(['tank/litres', 'int', 410], [entry.name, entry.kind, entry.value])

const done = await client.POST('/v1/boards/{board}/commit', {
  params: { path: { board } },
  body: { ops: [{ op: 'put', name: 'gate/open', value: true }, { op: 'append', name: 'hose/queue', item: 'C4' }] },
})
same(2, done.data?.results?.length)
const list = await client.GET('/v1/boards/{board}/entries', { params: { path: { board }, query: { prefix: ['gate/'] } } })
same(['gate/open'], list.data?.entries?.map(e => e.name))

const refused = await client.DELETE('/v1/boards/{board}/entries/{name}', { params: { path: { board, name: 'nothing' } } })
const problem: components['schemas']['Problem'] = refused.error!
same([404, 'absent'], [refused.response.status, problem.code])
console.log(problem.detail)
