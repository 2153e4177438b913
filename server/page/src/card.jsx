// A card: one entry, its value large, and what can be done with it.

import { useEffect, useRef, useState } from 'preact/hooks'
import { Editor, NodeField } from './editor.jsx'
import { blankLike, brief, fromNode, grouped, isNumber, many, pictureType, points, putOp, ranges, size, stepPath, tag, toNode, visible, when } from './model.js'
import { Age, Notes, Steps } from './parts.jsx'
import { byName, commits, range } from './history.js'
import { appendOp, change, entries, fresh, may, past, removed, sending, shown, taps } from './store.js'
import { useTopics } from './topics.js'
import { draftOf, setDraft, setView, view } from './view.js'

export function Card({ name, short }) {
  useTopics(`e ${name}`, `d ${name}`, 'past', 'rules', 'view')
  const { entry, key, kind, value } = shown(name), gone = !past && !entry && removed.get(name)
  const selected = view.selected === name, never = !entry, draft = draftOf(name)
  const [editing, setEditing] = useState(false), card = useRef()
  const at = fresh.get(name)
  useEffect(() => { // the bar of a change fades
    if (!at || past || Date.now() - at > 8000) return
    card.current.classList.remove('fresh')
    void card.current.offsetWidth
    card.current.classList.add('fresh')
  }, [at, past])
  const open = tab => setView({ selected: name, tab })
  const change = () => kind === 'text' && !key?.choices && String(value).length < 160 ? setEditing(true) : open('change')
  const canChange = may.changes && !past
  return <article ref={card} class={`c${selected ? ' on' : ''}${never ? ' never' : ''}${isNumber(kind) ? ' wide' : ''}`} data-name={name}
    onClick={e => e.target.closest('button, input, select, textarea, form, a') || open('happened')}>
    <div class="n"><button type="button" class="name" aria-expanded={selected} onClick={() => open('happened')}><bdi>{visible(short)}</bdi></button><span>{aside(kind, key, value)}</span></div>
    {gone ? <div class="t second">removed</div>
      : editing && !past ? <Editor name={name} inPlace done={() => setEditing(false)} />
        : <Value {...{ name, entry, key, kind, value, canChange, change }} of={key} />}
    {!editing && draft && !(selected && view.tab === 'change') && <div class="note draft"><span>not stored yet</span><button type="button" onClick={change}>Go on</button></div>}
    {selected && view.tab === 'change' ? null : <Notes name={name} />}
    {taps.get(name) && <div class="note own"><span>{taps.get(name).sum < 0 ? grouped(taps.get(name).sum) : `+${grouped(taps.get(name).sum)}`}</span></div>}
    <div class="q">
      <span>{gone ? '' : entry ? entry.updated ? <Age at={entry.updated} by={entry.by} past={!!past} /> : 'earlier than the kept changes' : key ? 'never written: the default' : 'nothing is stored'}</span>
      {gone ? may.changes && <button type="button" class="b small" onClick={() => putBack(name, gone)}>Put back</button>
        : isNumber(kind) && !past && may.adds && (may.changes || may.right === 'add') ? <Steps name={name} kind={kind} of={key} /> : sending.get(name) ? <span class="live-text">on its way</span> : null}
    </div>
  </article>
}

const putBack = (name, e) => change(putOp(name, e.kind, e.value, '0'))

const aside = (kind, key, value) => key?.min !== undefined ? `${grouped(key.min)} to ${grouped(key.max)}`
  : kind === 'list' && key?.keep ? `${value?.length ?? 0} of ${key.keep}` : ''

/** The value of a card, by its kind. */
function Value({ name, entry, of: key, kind, value, canChange, change: edit }) {
  if (key?.choices) return canChange
    ? <select class="choice" aria-label={name} value={value} onChange={e => change(putOp(name, 'text', e.currentTarget.value, tag(entry)))}>
      {[...new Set([...key.choices, value])].map(c => <option value={c}>{visible(String(c))}</option>)}</select>
    : <div class="t"><bdi>{visible(String(value))}</bdi></div>
  switch (kind) {
    case 'int': case 'float': return <Num {...{ name, entry, value, canChange, edit }} of={key} />
    case 'bool': return canChange
      ? <button type="button" class={`sw${value ? '' : ' off'}`} role="switch" aria-checked={!!value} aria-label={name} onClick={() => change(putOp(name, 'bool', !value, tag(entry)))}><i /><b>{value ? 'yes' : 'no'}</b></button>
      : <div class={`sw${value ? '' : ' off'}`}><i aria-hidden="true" /><b>{value ? 'yes' : 'no'}</b></div>
    case 'list': return <List {...{ name, value }} of={key} />
    case 'map': {
      const all = Object.entries(value)
      return <Open {...{ name, canChange, edit }} className="members"><dl>{all.slice(0, 4).map(([k, v]) => <div><dt><bdi>{visible(k)}</bdi></dt><dd><bdi>{brief(v)}</bdi></dd></div>)}</dl>{all.length > 4 ? <small>{`and ${many(all.length - 4, 'more', 'more')}`}</small> : all.length ? null : <span class="second">empty</span>}</Open>
    }
    case 'time': return <Open {...{ name, canChange, edit }} className="t" title={value}>{when(value)}</Open>
    case 'bytes': {
      const type = pictureType(value)
      return <Open {...{ name, canChange, edit }} className="t">{type && value.length < 1 << 18 ? <img src={`data:${type};base64,${value}`} alt={`the picture ${name}`} /> : null}{size(value)}</Open>
    }
    case 'sealed': return <div class="t second">sealed: only its own device can read it</div>
    case undefined: return <div class="t second">nothing</div>
  }
  return <Open {...{ name, canChange, edit }} className={`t${value === '' ? ' second' : ''}`}>{value === '' ? 'empty' : <bdi>{visible(String(value).slice(0, 400))}</bdi>}</Open>
}

/** A value that opens its editor when it is touched, if it may be changed. */
const Open = ({ name, canChange, edit, className, title, children }) => canChange
  ? <button type="button" class={`value ${className}`} title={title ?? `Change ${name}`} onClick={edit}>{children}</button>
  : <div class={className} title={title}>{children}</div>

function Num({ name, entry, of: key, value, canChange, edit }) {
  useTopics('history')
  const to = past?.time ?? Date.now(), from = to - ranges[range]
  const path = commits.length ? stepPath(points(past ? undefined : entry, byName().get(name), from, to), from, to, 240, 34) : ''
  const full = key?.min !== undefined ? (Number(value) - Number(key.min)) / (Number(key.max) - Number(key.min)) : undefined
  const long = grouped(value).length
  return <>
    <Open {...{ name, canChange, edit }} className={`v${long > 14 ? ' longest' : long > 9 ? ' long' : ''}`}>{grouped(value)}</Open>
    {path && <svg class="spark" viewBox="0 0 240 34" preserveAspectRatio="none" aria-hidden="true"><path d={path} /></svg>}
    {full !== undefined && <meter class="gauge" min="0" max="1" value={Math.min(1, Math.max(0, full))} aria-label={`${name}, how full`} />}
  </>
}

function List({ name, of: key, value }) {
  useTopics(`d append ${name}`)
  const adding = draftOf(`append ${name}`) !== undefined // which outlives the card
  const canAppend = may.adds && !past, most = 8
  return <>
    <div class="chips">
      {value.slice(0, most).map((x, i) => <span class={i ? '' : 'first'}><bdi>{brief(x, 40)}</bdi></span>)}
      {value.length > most && <span class="second">{`and ${grouped(value.length - most)} more`}</span>}
      {!value.length && <span class="empty second">empty</span>}
      {canAppend && !adding && <button type="button" class="more" aria-label={`Append to ${name}`} onClick={() => setDraft(`append ${name}`, blankItem(value))}>Append…</button>}
    </div>
    {canAppend && adding && <Append {...{ name, value }} of={key} />}
  </>
}

const blankItem = value => blankLike(value.length ? toNode(value.at(-1)) : undefined)

/** A field for one more item, of the kind that the list's items have. */
export function Append({ name, value, of: key, done }) {
  const blank = blankItem(value)
  const draft = draftOf(`append ${name}`), node = draft ?? blank, [says, setSays] = useState('')
  useTopics(`d append ${name}`)
  const set = n => setDraft(`append ${name}`, n)
  const send = async e => {
    e.preventDefault()
    let item
    try { item = fromNode(draftOf(`append ${name}`) ?? blank) } catch (why) { return setSays(why) }
    setSays('')
    const result = await change(appendOp(name, item, key))
    if (result.says) return
    set(result.theirs === undefined ? undefined : blank)
    if (result.theirs === undefined) done?.()
  }
  return <form class="append" onSubmit={send} onKeyDown={e => e.key === 'Escape' && (e.stopPropagation(), set(undefined), done?.())}>
    <NodeField node={node} onChange={set} label={`A new item of ${name}`} focus />
    {says && <p class="said" role="alert">{says}</p>}
    <span class="both"><button class="b main small">Append</button><button type="button" class="b small" onClick={() => { set(undefined); done?.() }}>Cancel</button></span>
  </form>
}
