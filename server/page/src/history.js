// The history of the board, as far back as the page shows it.

import { board } from './board.js'
import { changesByName, merged, ranges } from './model.js'
import { emit } from './topics.js'

export let commits = [], more, thinned = false, historyError = '', range = 'day'
let index, loading, refresh

/** The changes of each name, newest first. */
export const byName = () => index ??= changesByName(commits)

function setCommits(list) {
  commits = list
  thinned = commits.some(c => c.over)
  index = undefined
  emit('history')
}

const atOnce = 500, mostPages = 20

/** Loads history back to the start of the range. */
export async function loadHistory() {
  if (loading) return
  loading = true
  try {
    for (let pages = 0; pages < mostPages; pages++) {
      const from = Date.now() - ranges[range]
      if (commits.length && (!more || Date.parse(commits.at(-1).at) < from)) break
      const got = await board.call('GET', '/history', { query: { limit: atOnce, before: commits.length ? more : undefined } })
      more = got.next
      historyError = ''
      setCommits(merged(commits, got.commits))
      if (!got.commits.length) break
    }
  } catch (e) {
    historyError = e.message
    emit('history')
  } finally { loading = false }
}

export function setRange(r) {
  range = r
  emit('range', 'history')
  loadHistory()
}

/** Adds a change that was seen to the history. The server's own words replace it a little later. */
export function remember(name, before, e) {
  const version = e?.version ?? board.status.version, top = commits[0]
  const change = { name, old: before?.value, old_kind: before?.kind, new: e?.value, new_kind: e?.kind }
  if (top?.seen && top.version === version) top.changes.push(change)
  else if (!top || version > top.version) commits = [{ version, at: e?.updated ?? new Date().toISOString(), by: e?.by, changes: [change], seen: true }, ...commits]
  if (index) {
    const one = { ...change, at: Date.parse(commits[0].at), version, by: e?.by ?? '' }
    index.has(name) ? index.get(name).unshift(one) : index.set(name, [one])
  }
  refresh ??= setTimeout(newest, 5000)
}

async function newest() {
  refresh = undefined
  if (document.hidden || board.status.error) return
  try {
    const seen = commits.filter(c => c.seen).length
    const got = await board.call('GET', '/history', { query: { limit: Math.min(atOnce, seen + 20) } })
    const firm = commits.filter(c => !c.seen)
    if (got.commits.length && firm.length && got.commits.at(-1).version > firm[0].version + 1 && got.next) {
      more = got.next // there is a gap, so start from here
      setCommits(got.commits)
      loadHistory()
    } else setCommits(merged(firm, got.commits))
  } catch { /* the head says that there is no connection */ }
}

/** More of the history of one entry: those before a version. */
export const olderOf = (name, before) => board.call('GET', '/history', { query: { name, limit: 100, before } })
