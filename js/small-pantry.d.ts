/**
 * The client of a shared board, for pages and for Node 20 and later. It needs nothing else.
 *
 *     import { join, int } from './small-pantry.js'
 *
 *     const litres = int('tank/litres', 0, { min: 0, max: 5000 })
 *     const board = join('http://127.0.0.1:8437/boards/rowan-street')
 *     const tank = board.on(litres)
 *     tank.watch(state => show(state.value, state.phase))
 *     await tank.add(-10)
 *
 * A server serves the module at /small-pantry.js, and these types at /small-pantry.d.ts. A page of another
 * origin needs a link with a token; in development mode it must be served by the same machine.
 */

/** A value. An int that a number holds exactly is a number, another one a bigint. Lists and maps hold no times and no bytes. */
export type Value = boolean | number | bigint | string | Uint8Array | Date | Inner[] | { [name: string]: Inner } | null

/** What a list or a map can hold. */
export type Inner = boolean | number | bigint | string | null | Inner[] | { [name: string]: Inner }

/** T if a list or a map can hold it, also if T is an interface; else never. */
export type Stored<T> = T extends Date | Uint8Array | symbol | ((...args: any[]) => any) ? never
  : T extends boolean | number | bigint | string | null | undefined ? T
  : T extends object ? StoredMembers<T> : never

/** T if all of its members are Stored. */
export type StoredMembers<T> = { [K in keyof T]: Stored<T[K]> }

export type Kind = 'bool' | 'int' | 'float' | 'text' | 'bytes' | 'time' | 'list' | 'map'

/** The rules for the values of a key. */
export interface Rules<T> {
  /** A description, for a list of keys. */
  about?: string
  /** Says in a sentence why a value can't be stored; '' or nothing means that it can. */
  check?(x: T): string | undefined | void
}

export interface Bounds<T> extends Rules<T> {
  /** The smallest and the largest value that is stored, both or neither. The server checks every writer against them. */
  min?: T
  max?: T
}

export interface ListRules<T> extends Rules<T> {
  /** How many items are kept; the oldest are removed at the front. */
  keep?: number
}

/** A declared name: its kind, its default, and its rules. It never changes. */
export interface Key<T> {
  readonly name: string
  readonly kind: Kind
  readonly default: T
  readonly min?: T
  readonly max?: T
  readonly about?: string
  readonly keep?: number
  readonly choices?: readonly string[]
  check?(x: T): string | undefined | void
  /** The key of a member of the family: the same key with the name NAME/PART. part is any text. */
  at(part: string): Key<T>
  /** Says in a sentence why x can't be stored; '' or nothing means that it can. */
  why(x: unknown): string | undefined | void
  /** Reads what a user typed. It throws a BoardError 'invalid' whose message is a sentence for the user. */
  parse(typed: string): T
  /** Returns x in the form that parse reads: the text to show in an input. */
  format(x: T): string
}

/** The declaration of a collection: each record is an entry NAME/ID. */
export interface RecordsKey<T> {
  readonly name: string
  readonly kind: Kind
  /** The key of one record. */
  at(id: string): Key<T>
  /** The id of the record in an entry; undefined for the name of another entry. */
  idOf(name: string): string | undefined
}

// Declarations. They throw a BoardError 'invalid' for an invalid name, and for a default of another kind
// or outside of its range.
export function bool(name: string, fallback: boolean, rules?: Rules<boolean>): Key<boolean>
export function int(name: string, fallback: number, rules?: Bounds<number>): Key<number>
/** With a bigint as its default, for values that a number may not hold: they are bigints then. */
export function int(name: string, fallback: bigint, rules?: Bounds<number | bigint>): Key<number | bigint>
export function float(name: string, fallback: number, rules?: Bounds<number>): Key<number>
export function text(name: string, fallback: string, rules?: Rules<string>): Key<string>
export function bytes(name: string, fallback: Uint8Array, rules?: Rules<Uint8Array>): Key<Uint8Array>
/** A moment, to the millisecond. */
export function time(name: string, fallback: Date, rules?: Rules<Date>): Key<Date>
export function list<T extends StoredMembers<T>>(name: string, fallback: T[], rules?: ListRules<T[]>): Key<T[]>
export function map<T extends StoredMembers<T>>(name: string, fallback: { [name: string]: T }, rules?: Rules<{ [name: string]: T }>): Key<{ [name: string]: T }>
/** A text from a fixed set; the first is the default. */
export function oneOf<T extends string>(name: string, first: T, ...rest: T[]): Key<T>

/** A collection of objects. example has their members with the default of each. */
export function records<T extends StoredMembers<T> & object>(name: string, example: T, rules?: Rules<T>): RecordsKey<T>
/** All of key.at(…) as a collection, with the rules of the key: for example a counter for each gardener. An id is any text. */
export function family<T>(key: Key<T>): RecordsKey<T>

/**
 * How far a value can be trusted. unknown: the server has not answered yet; current; sending: a change is
 * being sent; queued: it waits for the network; stale: the server can't be reached, or was not yet in this
 * visit; unreadable: the stored value can't be used, and the default is shown; refused: the newest change
 * was refused, and error says why.
 */
export type Phase = 'unknown' | 'current' | 'sending' | 'queued' | 'stale' | 'unreadable' | 'refused'

export interface State<T> {
  /** What is stored, or the default. It is the caller's own. */
  value: T
  /** Whether anything is stored. */
  found: boolean
  phase: Phase
  /** Whether the last change was made by this very Board. It is not known before its first write was answered. */
  mine: boolean
  /** How many changes wait for the network. */
  queued: number
  /** The value after all of them are stored; value if there are none. */
  waiting: T
  /** The version of the board that changed it last; 0: it is not stored. */
  version: number
  updated?: Date
  /** Who changed it last: the label of a token, and what the app calls itself. */
  by: string
  error?: BoardError
  /** When the server last confirmed it, by the clock of this device; undefined: never. */
  asOf?: Date
  /** For setIf. */
  tag: string
}

export interface How {
  /** Ends the call. A change may have been made all the same. */
  signal?: AbortSignal
}

/** A step of a commit. */
export interface Op {
  op: string
  name: string
  /** The op as the server takes it, a JSON object. */
  json: string
  /** On condition that the entry is still this tag says: a tag, a version, or 0 for absent. */
  if?: string
  /** The operand, for ops that a Var has made. */
  args?: any
}

type Item<T> = T extends (infer E)[] ? E : never

/**
 * A key on a board. Writes resolve when what they made is on the server's disk and shown here.
 * They reject with a BoardError: 'invalid' against the key's rules, before anything is sent;
 * 'wrong-kind' 'out-of-range' 'conflict' 'undeclared' 'quota' 'forbidden' as the server says;
 * 'unreachable' 'uncertain' where it is not known whether the change was made; and with
 * Options.offline 'queued', after which it is kept, and will be sent.
 */
export interface Var<T> {
  readonly key: Key<T>
  /** What is known, else the default. It never waits. */
  get(): T
  state(): State<T>
  /** Asks the server. Rejects with 'wrong-kind' or 'invalid' where what is stored can't be used. */
  lookup(how?: How): Promise<{ value: T; found: boolean }>
  set(x: T, how?: How): Promise<void>
  /** Stores x where what is stored is still what seen shows, else rejects with 'conflict'. */
  setIf(seen: State<T>, x: T, how?: How): Promise<void>
  /** Removes the entry. Clearing what is not stored is no error. */
  clear(how?: How): Promise<void>
  /** Stores what f makes of what is stored, again where somebody was faster, 8 times at most. f must have no side effects. It is never queued. */
  update(f: (old: T) => T | Promise<T>, how?: How): Promise<T>
  /** Adds on the server, where what several phones add is each counted. An absent entry starts from the default. */
  add(n: T & (number | bigint), how?: How): Promise<T>
  /** Makes it n where it is smaller. */
  raise(n: T & (number | bigint), how?: How): Promise<T>
  /** Makes it n where it is larger. */
  lower(n: T & (number | bigint), how?: How): Promise<T>
  /** Appends an item; unique: unless it is in the list. */
  append(x: Item<T>, how?: How & { unique?: boolean }): Promise<T>
  /** Takes the first item out that is equal; all: every one. */
  remove(x: Item<T>, how?: How & { all?: boolean }): Promise<T>
  /** Takes an item out of the list on the server: 0 is the first, -1 the last. It is never queued. */
  take(at?: number, how?: How): Promise<{ item?: Item<T>; found: boolean }>
  /** Calls f with the state at once and after each change. The result ends it. */
  watch(f: (state: State<T>) => void): () => void
  /** The same as an async iterator: a slow body skips states, never the last one. */
  watch(): AsyncGenerator<State<T>, void>
  /** Steps for Board.commit. */
  readonly op: {
    set(x: T): Op
    setIf(seen: State<T>, x: T): Op
    clear(): Op
    add(n: T): Op
    raise(n: T): Op
    lower(n: T): Op
    append(x: Item<T>, how?: { unique?: boolean }): Op
    remove(x: Item<T>, how?: { all?: boolean }): Op
    take(at?: number): Op
  }
}

export interface Entry {
  name: string
  kind: Kind
  /** As JSON has it: bytes in base64, a time as in RFC 3339. */
  value: unknown
  version: number
  updated: string
  by?: string
  from?: string
}

/** One record that changed: old and now are undefined where there was or is none. first: it was there when changes began. */
export interface ItemChange<T> {
  old?: T
  now?: T
  first: boolean
}

/** A collection on a board. An id is a text; records and family say which. */
export interface Collection<T> {
  readonly key: RecordsKey<T>
  /** The known records by id: ids that are numbers first, by size, then the others by their characters. */
  all(): Map<string, T>
  readonly size: number
  /** The record as far as is known, else the default. */
  get(id: string): T
  /** One record as a variable. */
  at(id: string): Var<T>
  /** The known records in the order of compare. */
  sorted(compare: (a: T, b: T) => number): [string, T][]
  lookup(id: string, how?: How): Promise<{ value: T; found: boolean }>
  /** Stores a new record and resolves with its id, which no other phone makes. An error with the code queued has the id too. */
  add(x: T, how?: How): Promise<string>
  put(id: string, x: T, how?: How): Promise<void>
  /** Stores what f makes of a record. It rejects with 'absent' if there is none. */
  update(id: string, f: (old: T) => T | Promise<T>, how?: How): Promise<T>
  /** Removes records in one commit. Ids without a record are ignored. */
  drop(...ids: string[]): Promise<void>
  clear(how?: How): Promise<void>
  /** Calls f with all records and the ids that changed, as soon as they are known and after each change. The result ends it. */
  watch(f: (all: Map<string, T>, changed: string[]) => void): () => void
  watch(): AsyncGenerator<Map<string, T>, void>
  /** Calls f for each record that is there, and then for each that was added, changed or removed. The result ends it. */
  changes(f: (id: string, change: ItemChange<T>) => void): () => void
}

/** A change that waits to be sent. With error, the server refused it, and it is kept until it is retried or discarded. */
export interface Pending {
  id: number
  ops: Op[]
  /** It was sent at least once, and may have arrived. */
  sent: boolean
  error?: BoardError
  /** It was made with another link of this browser, and only a page with that link sends it. */
  other: boolean
  /** What a set of one entry would store. */
  mine?: unknown
  /** With error.code 'conflict': the entry that is stored instead; undefined: it was removed. */
  theirs?: Entry
}

export interface Status {
  /** How changes come: '' not yet, else 'push', 'wait' (a request that waits for news) or 'poll'. */
  way: '' | 'push' | 'wait' | 'poll'
  /** What does not work on this network, for example streams; '' if everything does. */
  trouble: string
  /** Why the server can't be reached; undefined: it can. */
  error?: BoardError
  /** The version of the board. */
  version: number
  /** When the last byte from the server came. A stream of a page in view brings one every 5 seconds. */
  heard?: Date
  /** When the server last said what is stored; after join with offline, also in an earlier visit. */
  asOf?: Date
}

export interface Options {
  /** What the app calls itself, beside its changes. */
  name?: string
  /** Keys to declare on the board, which holds every app to them. Its findings are reported to onProblem. */
  declare?: (Key<any> | RecordsKey<any>)[]
  /** Changes that can't be sent are kept in IndexedDB, and sent later, each counted once. What is known is kept too, for a visit without a network. */
  offline?: boolean
  /**
   * Called with what goes wrong and is survived, once each. Its codes are those of calls, and: near, a name
   * that nearly matches another; replaced, a value that a set replaced although this app had not seen it;
   * transport, a network that lets no streams or no waiting requests through; plain, a link without https;
   * twice, two keys of one name that differ; secret, a name that suggests one.
   * Default: console.warn.
   */
  onProblem?(e: BoardError): void
  /** false: only polls, no stream and no waiting request. Default: true. */
  push?: boolean
  /** ms between polls while things change, and the longest pause when it is quiet. Default: 2000 and 15000. */
  fast?: number
  slow?: number
  /** ms in which the server must say something. Default: 10000. */
  timeout?: number
  /** ms for which a call is repeated where that is safe. Default: 5000. */
  patience?: number
  /** Reads the server's JSON. Default: parse. */
  parse?(text: string): any
}

/** One connection for all its variables. It rests while the page is hidden, and goes on without a gap. */
export interface Board {
  /** The name of the board. */
  readonly board: string
  readonly status: Status
  /** The variable that a key is on this board, which asks for it from now on. */
  on<T>(key: Key<T>): Var<T>
  /** The collection that a key declares. The board requests all of it from now on. */
  records<T>(key: RecordsKey<T>): Collection<T>
  /** Resolves when the server has answered for all variables and collections. It rejects after timeout ms (default: Options.timeout), or when the link is refused, with the reason. */
  ready(how?: How & { timeout?: number }): Promise<void>
  /** Makes all changes in one commit, or none. */
  commit(ops: Op[], how?: How): Promise<{ version: number; entries: Entry[]; gone: { name: string; version: number }[]; results: { changed: boolean; taken?: unknown; replaced?: Omit<Entry, 'name' | 'from'> }[] }>
  /** Calls f at once with what is known of the names that begin so, and then with what changed; undefined: it is not stored any more. The result ends it. */
  watch(prefix: string, f: (changed: Map<string, Entry | undefined>) => void): () => void
  /** Calls f at once, and whenever the connection becomes another one. The result ends it. */
  onStatus(f: (status: Status) => void): () => void
  /** Any other call of the server, below the board: call('GET', '/history', { query: { limit: 5 } }). */
  call(method: string, path: string, more?: How & { query?: Record<string, unknown>; body?: Value }): Promise<any>
  /** What waits to be sent, and what was refused when it was, oldest first. */
  pending(): Promise<Pending[]>
  /** Removes a change. It rejects with 'busy' while the change is being sent. */
  discard(id: number): Promise<void>
  /** Sends a refused change again as the user's decision: a set then replaces what is stored. It also takes over a change of another link that certainly did not arrive. */
  retry(id: number): Promise<void>
  /** Asks nothing until resume. */
  pause(): void
  resume(): void
  /** Ends every watch and call. What is queued stays. */
  close(): void
}

/** Joins the board of a link. It needs no network. Throws a BoardError 'link' for what is none. */
export function join(link: string, options?: Options): Board

/** What went wrong: code for the program, message for the user. */
export class BoardError extends Error {
  code: string
  /** Of an answer: its status, the index of the op, what is stored (conflict), Retry-After in seconds. */
  status?: number
  at?: number
  stored?: Entry
  retryAfter?: number
  /** With 'absent': names that nearly match. With 'near': the other name. */
  near?: string | string[]
  /** The name that a problem is about. */
  about?: string
  /** With 'replaced': what was replaced. */
  replaced?: Omit<Entry, 'name' | 'from'>
  /** With 'queued' from add of a collection: the id of the new record. */
  id?: string
}

/**
 * Reads JSON. An integer that a number can't hold becomes a bigint. Otherwise make makes of its
 * text each number that odd says is to be kept as it is written.
 */
export function parse(text: string, odd?: (number: string) => boolean, make?: (number: string) => unknown): any
/** The tag of an entry, for Op.if. */
export function tagOf(e?: Entry): string
/** Writes a value as JSON. With kind 'float' 5 is written as 5.0. */
export function write(x: Value, kind?: Kind): string
