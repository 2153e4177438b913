// The client of a board, for pages and Node: see small-pantry.d.ts.

const draw = () => Array.from(crypto.getRandomValues(new Uint8Array(16)), b => b.toString(16).padStart(2, '0')).join('')
const exact = draw() // marks what JSON would spoil; it is random, so that no value contains it

const long = s => /^-?\d{16,}$/.test(s) && !Number.isSafeInteger(+s)
export const parse = (text, odd = long, make = BigInt) => odd === long && !/\d{16}/.test(text) ? JSON.parse(text) : JSON.parse(
	text.replace(/"(?:\\.|[^"\\])*"|-?\d[\d.eE+-]*/g, s => s[0] !== '"' && odd(s) ? `{"${exact}":"${s}"}` : s),
	(_, x) => x?.[exact] ? make(x[exact]) : x)

export const write = (x, kind) => JSON.stringify(x, function(at, x) {
	const own = this[at] // before its toJSON
	if (own instanceof Date && /list|map/.test(kind)) throw invalid('a time inside a list or a map is no time when it is read: store it as a text or a number')
	if (kinds.bytes[1](own)) x = own
	if (kinds.bytes[1](x)) return btoa(Array.from(x, b => String.fromCharCode(b)).join(''))
	if (typeof x === 'bigint') return `${exact}${x}`
	if (kind === 'float' && Number.isInteger(x)) return exact + (Object.is(x, -0) ? '-0' : `${x}`).replace(/^-?\d+$/, '$&.0')
	if (x == null || ['bool', 'text', 'list', 'map', Number.isInteger(x) ? 'int' : 'float'].some(k => kinds[k][1](x))) return x
	throw invalid(`${String(x)} can't be stored`)
}).replace(RegExp(`"${exact}([^"]*)"`, 'g'), '$1')

export class BoardError extends Error {
	constructor(code, sentence, more) { Object.assign(super(sentence), { name: 'BoardError', code }, more) }
}
const invalid = sentence => new BoardError('invalid', sentence)
const puts = o => /put|drop/.test(o.op)
const unsure = e => /^(unreachable|unavailable|rate-limited|uncertain)$/.test(e?.code)

const kinds = {
	bool: ['true or false', x => typeof x === 'boolean'],
	int: ['a whole number', x => typeof x === 'bigint' ? BigInt.asIntN(64, x) === x : Number.isSafeInteger(x)],
	float: ['a number', Number.isFinite],
	text: ['a text', x => typeof x === 'string'],
	bytes: ['bytes', x => x instanceof Uint8Array],
	time: ['a time', x => x instanceof Date && !isNaN(x)],
	list: ['a list', Array.isArray],
	map: ['a map', x => typeof x === 'object' && x && [Object.prototype, null].includes(Object.getPrototypeOf(x))],
}
const wordFor = kind => kinds[kind]?.[0] ?? kind

class Key {
	constructor(kind, name, fallback, rules) {
		Object.assign(this, rules, { kind, name, default: fallback })
		if (/^$|(^|\/)\.{0,2}(\/|$)/.test(name)) throw invalid(`"${name}" is no name such as tank/litres`)
		this.fit(fallback, true)
		Object.freeze(this)
	}
	toJSON() { return { ...this, check: undefined } }
	why(x, isDefault) {
		const takes = `this takes ${wordFor(this.kind)}`
		return !kinds[this.kind][1](x) ? takes
			: x < this.min || x > this.max ? `${takes} from ${this.min} to ${this.max}`
			: this.choices?.includes(x) === false ? `this takes one of ${this.choices}`
			: isDefault ? '' : this.check?.(x)
	}
	fit(x, isDefault) {
		const why = this.why(x, isDefault)
		if (why) throw invalid(`${this.name}: ${why}`)
		return x
	}
	read({ kind, value: x, by }) {
		if (kind === 'int' && this.kind === 'float' && Number(x) == x) kind = 'float', x = Number(x)
		if (kind !== this.kind) throw new BoardError('wrong-kind', `${this.name} is ${wordFor(kind)}${by ? ` (by ${by})` : ''}, not ${wordFor(this.kind)}`)
		if (kind === 'bytes') x = Uint8Array.from(atob(x), c => c.charCodeAt(0))
		if (kind === 'time') x = new Date(x)
		return this.fit(x)
	}
}
export const [bool, int, float, text, bytes, time, list, map] = Object.keys(kinds).map(kind => (name, fallback, rules) => new Key(kind, name, fallback, rules))
export const oneOf = (name, first, ...rest) => text(name, first, { choices: [first, ...rest] })

export const tagOf = e => e?.kind ? `${e.version}-${Date.parse(e.updated)}` : '0'
const clock = () => performance.now() // the wall clock can be set back
const delay = ms => new Promise(f => setTimeout(f, ms))
const queryOf = query => {
	const q = new URLSearchParams()
	for (const [n, all] of Object.entries(query ?? {})) for (const x of [all].flat()) if (x != null) q.append(n, x)
	return `?${q}`
}

export function join(link, { name, fast = 2000, slow = 15000, timeout = 10000, patience = 5000, declare = [], push = true, offline, parse: read = parse, onProblem = e => console.warn(e) } = {}) {
	const [, base, path, token = ''] = /^(https?:\/\/[^/?#]+)\/boards\/([^/?#]+)(?:#(.*))?$/.exec(link) ?? []
	if (!base) throw new BoardError('link', 'a link is http://HOST:PORT/boards/BOARD')
	let board
	try { board = decodeURIComponent(path) } catch { throw new BoardError('link', `${path} is no board's name`) }
	const instance = draw(), place = `${base}/v1/boards/${path}`, who = token.split('.')[0]
	const names = new Set(), nodes = new Map(), watchers = new Set(), over = new AbortController(), page = globalThis.document, beat = page ? 5 : 15 // seconds between the comments of a stream
	const status = { way: '', version: 0 }
	let prefixes = [], entries = new Map(), mark = '', epoch = 0, from, declared, setReady
	let asking, kicked, wake = () => {}, running, paused = page?.hidden, pause, later = 0, streamAt = 0, waitAt = 0, cuts = 0, news = 0
	const ready = new Promise(f => { setReady = f })
	const safely = (f, x) => { try { f(x) } catch (e) { setTimeout(() => { throw e }) } }
	const problem = e => over.signal.aborted || safely(onProblem, e)
	const kick = () => { kicked = true, wake(), asking?.abort() }
	const tell = names => { for (const w of watchers) if (!names || names.some(w.wants)) safely(w.tell, names ?? []) }
	const node = name => nodes.get(name) ?? nodes.set(name, { sending: 0 }).get(name)
	const begin = () => { if (!running) running = true, run() }
	const watching = (wants, tell, end) => {
		const w = { wants, tell }
		watchers.add(w)
		begin()
		tell([])
		return () => { if (watchers.delete(w)) end?.() }
	}

	const unexpected = why => new BoardError('unexpected', `no answer of a board (${why}); is the address right?`)
	// Calls f with an answer's text as it arrives. A silence of quiet ms ends it.
	async function request({ method, path, query, body, key, since, signal, as = instance, wait = 0 }, quiet, f) {
		const stop = new AbortController(), headers = Object.entries({
			'Client-Instance': as, 'Client-Name': name && unescape(encodeURIComponent(name)), Authorization: token && `Bearer ${token}`,
			'Content-Type': body && 'application/json', 'Idempotency-Key': key, 'Idempotency-Since': since }).filter(h => h[1])
		let timer
		const within = ms => { clearTimeout(timer), timer = setTimeout(() => stop.abort(), ms) }
		try {
			within(timeout + wait * 1000)
			const resp = await fetch(place + path + queryOf(query), { method, headers, body, cache: 'no-store', redirect: 'error',
				signal: AbortSignal.any([over, stop, signal ?? stop].map(s => s.signal ?? s)) })
			const reader = resp.body?.getReader(), decoder = new TextDecoder()
			for (let got; reader && !(got = await reader.read()).done; within(quiet)) status.heard = new Date(), f(decoder.decode(got.value, { stream: true }), resp)
			return resp
		} catch (cause) {
			if (over.signal.aborted) throw new BoardError('closed', 'closed')
			throw cause instanceof BoardError ? cause : new BoardError('unreachable', `${base} can't be reached: no ${stop.signal.aborted ? 'answer in time' : 'connection'}`, { cause })
		} finally {
			clearTimeout(timer)
			stop.abort()
		}
	}
	// Sends, and again for as long as patience says.
	async function send(rq) {
		const end = clock() + patience
		for (let wait = 50, sent = rq.sent; ; wait = Math.min(wait * 1.5, 1000)) {
			try {
				if (later > end && !rq.once) throw new BoardError('rate-limited', 'the server wants no call yet')
				if (!rq.once) await delay(later - clock())
				let text = '', json = {}
				const { ok, status, headers } = await request({ ...rq, since: sent && rq.since }, timeout, s => { text += s }), wants = headers.get('Retry-After') ?? 0
				const retryAfter = wants >= 0 ? +wants : Math.max(0, (Date.parse(wants) - Date.now()) / 1000) || 0 // seconds or a date
				try { json = read(text) } catch {}
				if (ok) return Object.assign(json, headers.has('Repeated') && { repeated: true })
				if (retryAfter) later = Math.max(later, clock() + Math.min(retryAfter, 300) * 1000)
				throw json.code ? new BoardError(json.code, json.detail, { status, retryAfter, at: json.op, stored: json.entry })
					: status < 500 ? unexpected(status) : new BoardError('uncertain', `${base} failed; it may have been done`)
			} catch (e) {
				if (!unsure(e) || rq.once || clock() + wait > end || rq.signal?.aborted) throw e
			}
			sent = true
			await delay(wait * (0.5 + Math.random()))
		}
	}
	const pairs = new Set() // of names that were reported
	const ours = page => {
		if (page.board !== board || !/^\d+\.[0-9a-f]{8}$/.test(page.mark)) throw unexpected(`board ${page.board}`)
		for (const { name, near, by } of page.findings ?? []) if (pairs.size < 1000 && pairs.size < pairs.add(`${name} ${near}`).size)
			problem(new BoardError('near', `${name} nearly matches ${near}${by ? `, by ${by},` : ''} which is on the board: is one of them misspelt?`, { about: name, near }))
		return page
	}
	const getPage = async (query, how) => ours(await send({ method: 'GET', path: '/entries', query, ...how }))

	const has = name => names.has(name) || prefixes.some(p => name.startsWith(p))
	const idle = () => !(names.size + prefixes.length)
	function bind(known, add) {
		add()
		begin()
		if (!known) mark = '', epoch++, kick() // a mark holds for what was asked with it
	}
	// What is known is the board at the mark. An answer counts if it has all changes since that mark,
	// or is the whole and was asked for with it. Nothing: ask again.
	function take(asked, page) {
		if (idle()) return []
		if (asked.epoch !== epoch) return
		if (page.whole ? asked.mark !== mark : page.since !== mark) return !page.whole && parseInt(page.mark) <= parseInt(mark) ? [] : void 0
		const changed = new Set(page.whole ? [...names, ...entries.keys()] : page.gone.map(e => e.name))
		for (const name of changed) names.has(name) ? entries.set(name, { name }) : entries.delete(name)
		for (const e of page.entries) if (has(e.name)) entries.set(e.name, e), changed.add(e.name)
		mark = page.mark
		status.version = page.version
		for (const n of changed) if (nodes.has(n)) node(n).refused = undefined
		if (changed.size) news = clock(), tell([...changed])
		return changed
	}
	function answered(way, error) {
		const before = status.error?.code, same = before === error?.code && (!way || status.way === way)
		status.error = error
		if (way) status.way = way
		if (!error) {
			setReady()
			queue?.wake()
			if (declare.length && !declared) declared = true, send({ method: 'POST', path: '/keys', body: `{"keys":[${declare.map(k => write(k, k.kind))}]}`, key: draw() })
				.then(({ findings }) => findings?.forEach(f => problem(new BoardError(f.code, f.sentence, { about: f.name }))), e => { unsure(e) ? declared = false : e.code === 'forbidden' || problem(e) })
		} else if (before !== error.code) problem(error)
		if (!same) tell()
	}
	function question() {
		let query = idle() ? { names: true, limit: 1 } : { name: [...names].sort(), prefix: prefixes }
		if (prefixes.includes('') || queryOf(query).length > 8192) query = {}
		return [{ ...query, since: mark || null }, { epoch, mark }]
	}
	async function poll(wait, signal) {
		const [query, asked] = question(), how = { once: true, signal }, page = await getPage({ ...query, wait }, { ...how, wait })
		for (let more = page; more.next && !query.limit;) {
			more = await getPage({ ...query, after: more.next }, how)
			page.entries.push(...more.entries)
			page.gone.push(...more.gone)
		}
		const changed = take(asked, page)
		if (!changed && asked.epoch === epoch && asked.mark === mark) throw unexpected(page.since)
		answered(wait ? 'wait' : 'poll')
		return !changed || changed.size || page.whole
	}
	// True: the next may come at once.
	async function ask(wait) {
		const begun = clock()
		asking = new AbortController()
		try {
			const more = await poll(wait, asking.signal)
			if (wait ? more || clock() - begun > 15000 : push && !idle() && clock() >= Math.min(streamAt, waitAt)) return true
		} catch (e) { kicked || over.signal.aborted || answered('', e) }
		if (wait && !kicked) waitAt = clock() + 60000
	}
	async function stream() {
		const [query, asked] = question(), begun = clock()
		let worked, rest = '', data = '', whole, id
		asking = new AbortController()
		try {
			await request({ method: 'GET', path: '/events', query: { ...query, beat }, signal: asking.signal }, beat * 2500, (text, resp) => {
				if (!resp.ok || !/^text\/event-stream/.test(resp.headers.get('Content-Type'))) throw unexpected('no stream')
				const lines = (rest + text).split('\n')
				rest = lines.pop()
				for (const line of lines) {
					if (line.startsWith('data:')) data += line.slice(5)
					if (line.startsWith('id:')) id = line.slice(3).trim()
					if (line.trim()) continue
					if (!data && id && worked && asked.epoch === epoch && asked.mark === mark) asked.mark = mark = id // only other names have changed
					id = ''
					if (!data) continue
					const page = ours(read(data))
					data = ''
					if (whole) Object.assign(page, { whole: whole.whole, since: whole.since, entries: [...whole.entries, ...page.entries], gone: [...whole.gone, ...page.gone] })
					whole = page.next && page
					if (whole) continue
					worked = true
					if (!take(asked, page)) throw unexpected(page.since)
					asked.mark = mark
					answered('push')
				}
			})
		} catch (e) {
			if (kicked || over.signal.aborted) return true
			if (e.code === 'unreachable' && (!worked || /time$/.test(e.message))) answered('', e)
			if (status.error && !worked) return
		}
		cuts = clock() - begun > 10000 ? 0 : cuts + 1
		streamAt = clock() + (!worked ? 60000 : cuts > 1 ? Math.min(1000 * 2 ** cuts, 60000) : 0)
		if (worked) await delay(Math.random() * 500)
		return ask()
	}
	async function run() {
		const sleep = ms => new Promise(done => {
			const t = setTimeout(done, Math.min(ms, 2e9))
			wake = () => (clearTimeout(t), done())
		})
		await 0
		while (!over.signal.aborted) {
			const now = clock(), hold = paused ? Infinity : later - now
			if (hold > 0) { await sleep(hold); continue }
			kicked = false
			if (await (!push || idle() || status.error ? ask() : now >= streamAt ? stream() : ask(now >= waitAt && mark ? 30 : null)) || kicked) continue
			pause = !pause || clock() - news < 15 * fast ? fast : Math.min(pause * 1.5, slow)
			await sleep(pause * (0.9 + Math.random() / 5))
			if (kicked) pause = 0
		}
	}

	async function commit(ops, how, verb, now) {
		ops = ops.map(o => o.op === 'put' && !o.if && names.has(o.name) ? { ...o, seen: tagOf(entries.get(o.name)) } : o)
		const item = { verb, ops, key: draw(), place, who, instance }, about = [...new Set(ops.map(o => o.name))], seen = Object.fromEntries(about.map(n => [n, tagOf(entries.get(n))]))
		const each = f => { about.forEach(n => f(node(n))), tell(about) }
		each(n => { n.sending++, n.refused = undefined })
		try {
			const waits = await queue?.waits()
			if (now && waits) throw new BoardError('unavailable', 'changes wait, and this can not')
			if (!now && (waits || queue && unsure(status.error))) return await queue.add(item, seen)
			return await sendItem(item, how?.signal).catch(e => {
				if (!queue || now || !unsure(e) || how?.signal?.aborted) throw e
				return queue.add({ ...item, sent: true }, seen)
			})
		} catch (e) {
			if (!unsure(e) && !/^(queued|closed)$/.test(e.code)) each(n => { n.refused = e })
			throw e
		} finally {
			each(n => { n.sending-- })
		}
	}
	const lost = (name, replaced) => problem(new BoardError('replaced', `this set of ${name} replaced ${JSON.stringify(replaced.value) ?? 'a value'}, which ${replaced.by || 'somebody'} stored and this app had not seen: use add, append, update or setIf, which lose nothing`, { about: name, replaced }))
	async function sendItem(item, signal) {
		const asked = { epoch }, ops = item.ops.map(o => ['if', 'seen'].reduce((json, m) => o[m] ? `${json.slice(0, -1)},"${m}":"${o[m]}"}` : json, o.json))
		let page
		item.since ??= mark
		try {
			page = ours(await send({ ...item, method: 'POST', path: '/commit', as: item.instance, signal, body: `{"ops":[${ops}]}` }))
			if (page.results?.length !== ops.length) throw unexpected('other ops')
			page.results.forEach(({ replaced }, i) => replaced && lost(item.ops[i].name, replaced))
			if (unsure(status.error)) answered()
		} catch (e) {
			if (unsure(e) && !signal?.aborted) answered('', e), begin(), kick()
			throw e
		}
		if (!page.repeated && item.instance === instance) from ??= page.entries.find(e => e.version === page.version)?.from
		for (let tries = 0; tries < 3 && !take(asked, page); tries++) {
			await delay(20)
			if (!(parseInt(mark) >= page.version)) await poll().catch(() => { tries = 3 })
		}
		return page
	}

	function on(key) {
		if (!(key instanceof Key)) throw invalid('no key')
		const { name, kind, default: start, min, max, keep } = key
		bind(has(name), () => names.add(name))
		let last = {}
		function state() {
			const n = node(name), waiting = queue?.about(name) ?? [], e = entries.get(name) ?? (mark && {}), found = !!e?.kind
			const refused = n.refused ?? waiting.find(i => i.error)?.error, queued = waiting.filter(i => !i.error).length
			const s = { found, version: e?.version ?? 0, updated: e?.updated && new Date(e.updated), by: e?.by ?? '', mine: !!from && e?.from === from, queued, error: status.error, tag: tagOf(e) }
			s.phase = n.sending ? 'sending' : queued ? 'queued' : refused ? 'refused' : !e ? 'unknown' : s.error ? 'stale' : 'current'
			if (s.phase === 'refused') s.error = refused
			if (found && last.e !== e) {
				last = { e }
				try { last.value = key.read(e) } catch (bad) { problem(last.bad = bad) }
			}
			if (found && last.bad) s.phase = 'unreadable', s.error = last.bad
			s.value = structuredClone(found && !last.bad ? last.value : key.default)
			return s
		}
		const one = (op, more) => ({ op, name, json: write({ op, name, start: puts({ op }) ? undefined : start, ...more }, kind) })
		const number = x => /int|float/.test(kind) && kinds[kind][1](x) ? x : key.fit(NaN)
		const op = {
			set: x => one('put', { value: key.fit(x), as: kind, kind }),
			setIf(seen, x) {
				if (!seen?.tag) throw invalid(`setIf of ${name} takes what state() gave`)
				return { ...op.set(x), if: seen.tag }
			},
			clear: () => one('drop'),
			add: n => one('add', { amount: number(n), min, max }),
			raise: n => one('raise', { to: key.fit(n) }),
			lower: n => one('lower', { to: key.fit(n) }),
			append: (item, how = {}) => one('append', { item, keep, unique: how.unique }),
			remove: (item, how = {}) => one('remove', { item, all: how.all }),
			take: at => one('take', { at: at ?? 0 }),
		}
		const entryIn = page => page.entries.find(e => e.name === name), valueIn = e => e ? key.read(e) : structuredClone(key.default)
		const stored = async how => entryIn(await getPage({ name }, how)), refuse = e => { node(name).refused = e, tell([name]) }
		async function act(verb, args, how = args[op[verb].length], now) {
			try { args = op[verb](...args) } catch (e) { refuse(e); throw e }
			return commit([args], how, verb, now)
		}
		const v = { key, op, state, get: () => state().value,
			async lookup(how) {
				const e = await stored(how)
				return { value: valueIn(e), found: !!e }
			},
			async update(f, how) {
				for (let e = await stored(how), tries = 1; ; tries++) {
					const next = await f(valueIn(e))
					try {
						await act('setIf', [{ tag: tagOf(e) }, next], how, true)
						return next
					} catch (bad) {
						if (bad.code !== 'conflict' || tries === 8) throw bad
						e = bad.stored
					}
				}
			},
			watch: f => f ? watching(n => n === name, () => f(state())) : iterate(v.watch),
		}
		for (const verb in op) v[verb] = async (...args) => {
			const takes = verb === 'take'
			if (verb === 'setIf' && args[0]?.phase === 'unknown') throw invalid(`${name} is not known yet`)
			try {
				const page = await act(verb, args, undefined, takes)
				return takes ? { item: page.results[0].taken, found: true } : /set|clear/.test(verb) ? undefined : valueIn(entryIn(page))
			} catch (e) {
				if (e.code !== 'absent') throw e
				refuse()
				return takes ? { found: false } : undefined
			}
		}
		return v
	}
	async function* iterate(watch) {
		let fresh = [], ring
		const wake = () => ring?.(), stop = watch(x => { fresh = [x], wake() })
		over.signal.addEventListener('abort', wake)
		try {
			while (!over.signal.aborted) fresh.length ? yield fresh.pop() : await new Promise(f => { ring = f })
		} finally { stop(), over.signal.removeEventListener('abort', wake) }
	}

	const queue = offline ? openQueue(place, who, over.signal, { sendItem, tell, problem, known: n => [mark, tagOf(entries.get(n))], mine: e => e.from === from, away: () => !paused && unsure(status.error) }) : null
	const shown = () => page.hidden ? b.pause() : b.resume(), b = {
		board, status, on, async commit(ops, how) {
			if (!Array.isArray(ops) || !ops.every(o => o?.json)) throw invalid('commit takes a list of ops, such as [tank.op.add(-10)]')
			return commit(ops, how)
		}, ready: () => (begin(), ready),
		call: (method, path, { query, body, signal } = {}) => send({ method, path, query, signal, body: body && write(body), key: method !== 'GET' && draw() }),
		watch(prefix, f) {
			const wants = n => n.startsWith(prefix)
			bind(prefixes.some(p => prefix.startsWith(p)), () => prefixes.push(prefix))
			let told
			return watching(wants, changed => {
				const those = told ? changed.filter(wants) : [...entries.keys()].filter(wants)
				if (!told || those.length) told = true, f(new Map(those.map(n => [n, entries.get(n)?.kind && entries.get(n)])))
			}, () => {
				prefixes.splice(prefixes.indexOf(prefix), 1)
				for (const n of entries.keys()) if (!has(n)) entries.delete(n)
				kick()
			})
		},
		onStatus: f => watching(() => false, () => f(status)),
		pending: async () => queue?.list() ?? [], discard: async id => queue?.discard(id),
		pause() { paused = true, kick() },
		resume() { paused = false, pause = 0, kick(), queue?.wake() },
		close() { over.abort(), kick(), queue?.wake(), watchers.clear(), page?.removeEventListener('visibilitychange', shown) },
	}
	page?.addEventListener('visibilitychange', shown)
	if (/^http:\/\/(?!(localhost|127\.[\d.]+|\[::1\])[:/])/.test(link)) setTimeout(problem, 0, new BoardError('plain', 'the link is http: others can read and change what is sent'))
	if (declare.length) begin()
	return b
}

// Changes that wait lie in IndexedDB, each with the instance under which it counts once,
// whichever page sends it first; what is decided is decided in one transaction.
function openQueue(place, who, signal, { sendItem, tell, problem, known, mine, away }) {
	let items = [], wake = () => {}
	const channel = new BroadcastChannel(`small-pantry ${place}`), locks = globalThis.navigator?.locks
	const db = new Promise((ok, no) => {
		const rq = indexedDB.open('small-pantry')
		rq.onupgradeneeded = () => rq.result.createObjectStore('queue', { keyPath: 'id', autoIncrement: true }).createIndex('place', 'place')
		rq.onsuccess = () => ok(rq.result)
		rq.onerror = () => no(rq.error)
	})
	const inStore = async f => {
		const t = (await db).transaction('queue', 'readwrite', { durability: 'strict' }), store = t.objectStore('queue')
		await new Promise((ok, no) => {
			const all = f => { store.index('place').getAll(place).onsuccess = e => f(e.target.result) }
			all(was => (f?.(store, was), all(is => { items = is })))
			t.oncomplete = ok
			t.onabort = () => no(t.error)
		})
		for (const i of items) if (i.code) i.error = new BoardError(i.code, i.sentence)
	}
	const ours = i => i.who === who, waiting = () => items.find(i => !i.code && ours(i)), about = item => item.ops.map(o => o.name)
	// Only one page of a link sends; the others hear from it what became of their changes.
	const changed = names => { channel.postMessage(0), tell(names) }
	channel.onmessage = () => inStore().then(() => { wake(), tell() }, problem)
	signal.addEventListener('abort', () => channel.close())
	async function run() {
		for (let pause = 1000; !signal.aborted;) {
			if (waiting() && !away() && await send(waiting().id).catch(problem)) { pause = 1000; continue }
			await new Promise(done => { wake = done, waiting() && setTimeout(done, pause) })
			pause = Math.min(2 * pause, 30000)
		}
	}
	async function send(id) {
		let item, first, page, bad, seen = {}
		await inStore((store, all) => {
			item = all.find(i => i.id === id && !i.code)
			if (!item) return
			for (const n of about(item)) seen[n] = known(n)
			first = !item.sent
			if (first) store.put(Object.assign(item, { sent: true, since: known()[0] }))
		})
		if (!item) return true
		try {
			page = await sendItem({ ...item, sent: !first }, signal)
		} catch (e) {
			if (signal.aborted) return true
			if (unsure(e)) return
			if (e.code !== 'absent' || item.verb !== 'clear') bad = e
		}
		await inStore((store, all) => {
			if (bad) return all.some(i => i.id === id) && store.put({ ...item, code: bad.code, sentence: bad.message })
			store.delete(id)
			// Later changes of this page are based on it, if no other change came between.
			for (const e of page ? page.entries.concat(page.gone) : []) {
				const put = item.ops.some(o => puts(o) && o.name === e.name), [mark, tag] = seen[e.name]
				if (put ? e.kind && e.version !== page.version && !mine(e) : page.repeated || page.since !== mark) continue
				for (const i of all) {
					const op = i.id > id && !i.sent && i.instance === item.instance && i.ops.find(o => o.name === e.name && o.if && (put || o.if === tag))
					if (op) op.if = tagOf(e), store.put(i)
				}
			}
		})
		if (bad) problem(bad)
		changed(about(item))
		return true
	}
	const opened = inStore().catch(problem)
	opened.then(() => { tell(), (locks ? locks.request(`small-pantry ${place} ${who}`, { signal }, run) : run()).catch(() => {}) })
	return {
		wake: () => wake(), about: name => items.filter(i => ours(i) && about(i).includes(name)), waits: () => opened.then(waiting),
		async add(item, seen) {
			try {
				await inStore((store, all) => {
					const last = all.filter(ours).at(-1), only = i => i.ops.length === 1 && puts(i.ops[0]) && i.ops[0].name
					if (!item.sent) item.ops = item.ops.map(o => puts(o) && !o.if ? { ...o, if: seen[o.name] } : o)
					const merges = last && !last.sent && !last.code && !item.sent && last.instance === item.instance && only(item) && only(item) === only(last)
					store.put(merges ? { ...last, verb: item.verb, ops: item.ops } : item)
				})
			} catch (e) { throw new BoardError('unreachable', `neither sent nor kept: ${e}`) }
			changed(about(item))
			wake()
			throw new BoardError('queued', 'no connection; it is kept, and will be sent')
		},
		list: () => opened.then(() => items.map(i => ({ ...i, other: !ours(i) }))),
		discard: id => inStore(store => store.delete(id)).then(() => changed()),
	}
}
