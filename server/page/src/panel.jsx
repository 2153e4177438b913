// The selected entry: what happened to it, its editor, and how to use it in an app.

import { useEffect, useRef, useState } from 'preact/hooks'
import { Append } from './card.jsx'
import { Editor } from './editor.jsx'
import { age, clock, fold, grouped, isNumber, line, makeOp, points, putOp, ranges, tag, visible, when, wordFor } from './model.js'
import { Copy } from './parts.jsx'
import { board } from './board.js'
import { byName, commits, historyError, more, olderOf, range, setRange } from './history.js'
import { change, entries, may, past, remove, shown } from './store.js'
import { useTopics } from './topics.js'
import { isPinned, pin, setView, view } from './view.js'

export function Panel({ name }) {
  useTopics(`e ${name}`, 'rules', 'view', 'past')
  const { entry, key, kind, value } = shown(name), cut = name.lastIndexOf('/') + 1
  const canChange = !past && kind !== 'sealed' && (may.changes || may.right === 'add' && (isNumber(kind) || kind === 'list'))
  const tabs = [['happened', 'What happened'], ...canChange ? [['change', 'Change']] : [], ['use', 'Use it in your app']]
  const tab = tabs.some(t => t[0] === view.tab) ? view.tab : 'happened'
  const keysOf = e => {
    const i = tabs.findIndex(t => t[0] === tab), to = { ArrowLeft: i - 1, ArrowRight: i + 1, Home: 0, End: tabs.length - 1 }[e.key]
    if (to === undefined || !tabs[to]) return
    e.preventDefault()
    setView({ tab: tabs[to][0], focus: false })
    requestAnimationFrame(() => document.querySelector('.tabs [aria-selected=true]')?.focus())
  }
  return <>
    <div class="title"><h3><span><bdi>{visible(name.slice(0, cut))}</bdi></span><bdi>{visible(name.slice(cut))}</bdi></h3>
      <button type="button" class="cross" aria-label="Close" onClick={() => setView({ selected: undefined })}>×</button></div>
    <p class="facts">{factsOf(key, kind)}</p>
    <div class="tabs" role="tablist" aria-label={name} onKeyDown={keysOf}>{tabs.map(([id, words]) =>
      <button type="button" role="tab" id={`tab-${id}`} aria-selected={tab === id} aria-controls="tab" tabIndex={tab === id ? 0 : -1} onClick={() => setView({ tab: id })}>{words}</button>)}</div>
    <div id="tab" role="tabpanel" aria-labelledby={`tab-${tab}`}>
      {tab === 'happened' && <Happened key={name} {...{ name, kind }} />}
      {tab === 'change' && <div class="change">
        {may.changes || isNumber(kind) ? <Editor key={name} name={name} done={() => setView({ tab: 'happened' })} /> : <Append {...{ name, value }} of={key} done={() => setView({ tab: 'happened' })} />}
        {may.changes && entry && <p class="remove"><button type="button" class="b small" onClick={() => removeIt(name)}>Remove this entry</button></p>}
      </div>}
      {tab === 'use' && <Use key={name} name={name} />}
    </div>
    <label class="pin"><input type="checkbox" checked={isPinned(name)} onChange={e => pin(name, e.currentTarget.checked)} /> show it in wall mode (key W)</label>
  </>
}

/** Removes an entry, and moves the focus to the next card. */
async function removeIt(name) {
  const cards = [...document.querySelectorAll('[data-name]')], i = cards.findIndex(c => c.dataset.name === name), next = (cards[i + 1] ?? cards[i - 1])?.dataset.name
  setView({ selected: undefined })
  await remove(name)
  requestAnimationFrame(() => [...document.querySelectorAll('[data-name]')].find(c => c.dataset.name === (next ?? name))?.querySelector('.name')?.focus())
}

function factsOf(key, kind) {
  const is = kind ? wordFor(kind) : 'nothing is stored'
  if (!key) return is[0].toUpperCase() + is.slice(1)
  const about = key.about ? visible(key.about) : '', limits = key.choices ? `one of ${key.choices.map(visible).join(', ')}` : `${is}${key.min !== undefined ? ` from ${grouped(key.min)} to ${grouped(key.max)}` : ''}${key.keep ? `; the newest ${grouped(key.keep)} stay` : ''}`
  return about ? `${about}, ${limits}` : limits[0].toUpperCase() + limits.slice(1)
}

// ---- What happened ----

export const Ranges = () => <div class="range" role="group" aria-label="How far back">{Object.keys(ranges).map(r =>
  <button type="button" aria-pressed={range === r} class={range === r ? 'on' : ''} onClick={() => setRange(r)}>{r}</button>)}</div>

let Chart
const chart = async () => { Chart ??= (await import('./chart.jsx')).Chart }

function Happened({ name, kind }) {
  useTopics('history', `e ${name}`, 'past', 'range')
  const [older, setOlder] = useState({ list: [], end: false }), [error, setError] = useState(''), end = useRef(), busy = useRef()
  const recent = byName().get(name) ?? [], last = recent.at(-1)?.version ?? Infinity
  const changes = [...recent, ...older.list.filter(c => c.version < last)].filter(c => !past || c.at <= past.time)
  const from = (past?.time ?? Date.now()) - ranges[range], to = past?.time ?? Date.now()
  const complete = older.end || !more, [, drawn] = useState(0)
  useEffect(() => { chart().then(() => drawn(1), () => {}) }, []) // the library is loaded when it is needed
  async function loadOlder() {
    if (busy.current || complete) return
    busy.current = true
    try {
      const before = changes.at(-1)?.version ?? commits.at(-1)?.version
      const got = await olderOf(name, before)
      const list = got.commits.flatMap(c => c.changes.filter(x => x.name === name).map(x => ({ ...x, at: Date.parse(c.at), version: c.version, by: c.by ?? '', over: c.over })))
      setOlder(o => ({ list: [...o.list, ...list], end: !got.next }))
      setError('')
    } catch (e) { setError(e.message) } finally { busy.current = false }
  }
  useEffect(() => { // the chart reaches back to the start of its time
    if (!complete && (!changes.length || changes.at(-1).at > from)) loadOlder()
  }, [range, changes.length, complete])
  useEffect(() => { // older changes load as one scrolls
    const seen = new IntersectionObserver(all => all.some(e => e.isIntersecting) && loadOlder(), { rootMargin: '200px' })
    seen.observe(end.current)
    return () => seen.disconnect()
  }, [changes.length, complete])
  const line = isNumber(kind) ? points(past ? undefined : entries.get(name), changes, from, to) : []
  return <>
    {line.length > 0 && <><Ranges />{Chart ? <Chart points={line} {...{ from, to, range, name }} end={past && clock(past.time)} /> : <figure class="chart"><div /></figure>}</>}
    <ol class="happened" tabIndex="0" aria-label={`What happened to ${name}`}>
      {fold(changes).map(run => run.length > 1 ? <Run key={run[0].version} {...{ name, run }} /> : <Happening key={run[0].version} {...{ name }} change={run[0]} />)}
      {!changes.length && <li class="second">{historyError || error || (complete ? 'Nothing has happened here yet.' : 'Asking the server.')}</li>}
      <li ref={end} class="end second">{changes.length > 0 && (complete ? 'The server knows nothing older.' : '')}</li>
    </ol>
  </>
}

function Run({ name, run }) {
  const [open, setOpen] = useState(false)
  if (open) return run.map(c => <Happening key={c.version} {...{ name }} change={c} />)
  const by = [...new Set(run.map(c => c.by).filter(Boolean))]
  return <li><span>{line(run.at(-1).old, run.at(-1).old_kind)} → <b>{line(run[0].new, run[0].new_kind)}</b>, in {run.length} steps</span>
    <button type="button" class="plain" onClick={() => setOpen(true)}>Show them</button>
    <small>{age(run.at(-1).at)} to {age(run[0].at)}{by.length ? `, ${visible(by.slice(0, 3).join(' and '))}` : ''}</small></li>
}

function Happening({ name, change: c }) {
  useTopics('second')
  const [asked, setAsked] = useState(false)
  const now = entries.get(name), newer = (now?.version ?? 0) !== c.version && !!now || !now && !!c.new_kind
  const undo = () => {
    setAsked(false)
    const as = tag(now)
    change(c.old_kind ? putOp(name, c.old_kind, c.old, as) : makeOp('drop', name, '', as))
  }
  const canUndo = may.changes && !past && (c.old_kind || now)
  return <li>
    <span><bdi>{line(c.old, c.old_kind)}</bdi> → <b><bdi>{line(c.new, c.new_kind)}</bdi></b></span>
    {canUndo && <button type="button" class="plain" aria-label={`Undo this: ${line(c.old, c.old_kind)} again`} onClick={() => newer ? setAsked(true) : undo()}>Undo this</button>}
    <small title={when(c.at)}>{age(c.at)}{c.by ? <>, <bdi>{visible(c.by)}</bdi></> : ''}{c.over ? `, and ${grouped(c.over)} changes that are not kept one by one` : ''}</small>
    {asked && <div class="note"><span>{now ? <>This overwrites <b><bdi>{line(now.value, now.kind)}</bdi></b>, {age(now.updated)}{now.by && <>, <bdi>{visible(now.by)}</bdi></>}.</> : 'It was removed since then. This brings it back.'}</span>
      <span class="both"><button type="button" onClick={undo}>Undo it all the same</button><button type="button" onClick={() => setAsked(false)}>Leave it</button></span></div>}
  </li>
}

// ---- Use it in your app ----

const languages = [['go', 'Go'], ['js', 'JavaScript'], ['kotlin', 'Kotlin'], ['swift', 'Swift'], ['curl', 'curl']]

function Use({ name }) {
  const [language, setLanguage] = useState(view.language ?? 'go'), [code, setCode] = useState('')
  useEffect(() => {
    let on = true
    view.language = language
    board.call('GET', '/keys', { query: { code: language, name } }).then(a => on && setCode(a.code), e => on && setCode(e.message))
    return () => { on = false }
  }, [language, name])
  return <div class="use">
    <div class="range" role="group" aria-label="Language">{languages.map(([id, words]) => <button type="button" aria-pressed={language === id} class={language === id ? 'on' : ''} onClick={() => setLanguage(id)}>{words}</button>)}</div>
    <pre tabIndex="0" role="region" aria-label="Code">{code}</pre>
    <Copy text={code} what="the code" />
  </div>
}

