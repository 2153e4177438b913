import { join, int, float, bool, text, bytes, time, list, map, oneOf, records, family, BoardError, parse, write } from '../small-pantry.js'
import type { Board, Entry, State, Status } from '../small-pantry.js'

const litres = int('tank/litres', 3200, { min: 0, max: 5000, about: 'what is in the tank', check: x => x % 2 ? 'an even number' : '' })
const units = oneOf('units', 'metric', 'imperial')
const queue = list<string>('hose/queue', [], { keep: 50 })
interface Planting { crop: string; beds: string[]; spacing?: number }
const rows = list<Planting>('plan/rows', [])
const plantings = records<Planting>('plantings', { crop: '', beds: [] })
const grams = family(int('harvest/grams', 0, { min: 0, max: 5000 }))

export async function app(link: string): Promise<string> {
  const board: Board = join(link, { name: 'tankwatch', declare: [litres, units, queue], offline: true, onProblem: e => console.warn(e.code, e.message) })
  const tank = board.on(litres), hose = board.on(queue), shown = board.on(units)
  const kg: number = board.on(float('harvest/total-kg', 0)).get(), open: boolean = board.on(bool('gate/open', false)).get()
  const note: string = board.on(text('gate/notice', '')).get(), when: Date = board.on(time('watered/C4', new Date(0))).get()
  const small: Uint8Array = board.on(bytes('map/small', new Uint8Array())).get(), beds: { [name: string]: number } = board.on(map<number>('beds', {})).get()
  await board.ready({ signal: AbortSignal.timeout(1000), timeout: 500 })
  const all = board.records(plantings), best = board.records(grams)
  const id: string = await all.add({ crop: 'peas', beds: ['C4'] })
  const crops: string[] = all.sorted((a, b) => a.crop.localeCompare(b.crop)).map(([, p]) => p.crop)
  const more: number = await best.at('Ana').add(250)
  all.watch((now, changed) => changed.forEach(id => now.get(id)?.crop))
  all.changes((id, { old, now, first }) => first || old?.crop === now?.crop)
  const first: Planting | undefined = board.on(rows).get()[0]
  const typed: number = litres.parse('42'), shownAs: string = litres.format(42)
  const now: number = await tank.add(-10)
  await tank.set(5)
  await tank.setIf(tank.state(), 6)
  await tank.raise(7, { signal: AbortSignal.timeout(1000) })
  await shown.set('imperial')
  const hoses: string[] = await hose.append('C4', { unique: true })
  const { item, found } = await hose.take(-1)
  if (found) item?.toUpperCase()
  const up: number = await tank.update(old => old + 1)
  const done = await board.commit([tank.op.add(-10), hose.op.append('A1'), shown.op.clear()])
  const stop: () => void = tank.watch((s: State<number>) => s.phase === 'current' && s.value.toFixed())
  for await (const s of tank.watch()) if (s.mine) break
  const stopAll = board.watch('gate/', (changed: Map<string, Entry | undefined>) => changed.forEach((e, name) => e?.kind ?? name))
  board.onStatus((s: Status) => s.way === 'push')
  try { await board.call('GET', '/history', { query: { limit: 5 } }) } catch (e) { if (e instanceof BoardError && e.code === 'conflict') e.stored?.value }
  for (const p of await board.pending()) if (p.error) p.theirs ? await board.retry(p.id) : await board.discard(p.id)
  stop()
  stopAll()
  board.close()
  return `${now} ${up} ${hoses} ${id} ${crops} ${more} ${first} ${typed} ${shownAs} ${done.version} ${kg} ${open} ${note} ${when} ${small.length} ${Object.keys(beds)} ${parse('1')} ${write(1, 'float')}`
}
