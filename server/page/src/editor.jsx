// Editors by kind. What is typed is a draft, which stays until it is stored or given up.

import { useLayoutEffect, useRef, useState } from 'preact/hooks'
import { blankLike, emptyOf, fromNode, isNumber, kinds, pictureType, plainNumber, putOp, makeOp, size, tag, toNode, visible, whyNoNumber, wordFor } from './model.js'
import { Notes } from './parts.jsx'
import { addOp, change, entries, keyOf, may } from './store.js'
import { useTopics } from './topics.js'
import { draftOf, setDraft, view } from './view.js'

/** The draft of a value as it is stored. */
const draftFor = (kind, value) => ({ kind,
  form: isNumber(kind) ? { how: 'set', text: String(value) } : kind === 'time' ? timeForm(value) : kind === 'list' || kind === 'map' ? toNode(value) : value })

function timeForm(value) {
  const d = new Date(value ?? Date.now()), two = n => String(n).padStart(2, '0')
  return { date: `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`, time: `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`, was: value }
}

/** The op that stores a draft. It throws a sentence for what can't be stored. */
export function opOf(name, { kind, form, tag }, key) {
  switch (kind) {
    case 'int': case 'float': {
      const text = plainNumber(form.text), adds = form.how === 'add', why = whyNoNumber(text, kind, key, adds)
      if (why) throw why
      const number = (kind === 'float' && /^-?\d+$/.test(text) ? `${text}.0` : text).replace(/^(-?)0+(?=\d)/, '$1')
      return adds ? addOp(name, number, key) : makeOp('put', name, `"value":${number},"as":"${kind}","kind":"${kind}"`, tag)
    }
    case 'time': {
      const same = form.was && JSON.stringify({ ...timeForm(form.was) }) === JSON.stringify(form)
      const at = new Date(`${form.date}T${form.time || '00:00'}`)
      if (isNaN(at)) throw 'Choose a day and a time.'
      return putOp(name, 'time', same ? form.was : at.toISOString(), tag)
    }
    case 'list': case 'map': return makeOp('put', name, `"value":${fromNode(form)},"as":"${kind}","kind":"${kind}"`, tag)
  }
  return putOp(name, kind, form, tag)
}

/** Changes one entry: in its card, or in the panel. */
export function Editor({ name, inPlace, done }) {
  useTopics(`e ${name}`, `d ${name}`, 'rules')
  const entry = entries.get(name), key = keyOf(name), kind = entry?.kind ?? key?.kind ?? 'text'
  const stored = { ...draftFor(kind, entry ? entry.value : key?.default ?? emptyOf(kind)), tag: tag(entry) }
  if (isNumber(kind) && !may.changes) stored.form = { how: 'add', text: '' }
  const draft = draftOf(name) ?? stored
  const [says, setSays] = useState(''), [busy, setBusy] = useState(false)
  const set = (form, more) => setDraft(name, { ...draft, ...more, form })
  const close = () => {
    setDraft(name, undefined)
    setSays('')
    done?.()
  }
  async function send(event) {
    event?.preventDefault()
    let op
    try { op = opOf(name, draftOf(name) ?? stored, key) } catch (why) { return setSays(why) }
    setSays('')
    setBusy(true)
    const result = await change(op)
    setBusy(false)
    if (!result.says && result.theirs === undefined) close()
    else if (result.theirs !== undefined) setDraft(name, { ...draft, tag: tag(result.theirs) })
  }
  const keysOf = e => {
    if (e.key === 'Escape' && inPlace) { e.stopPropagation(); close() }
    if (e.key === 'Enter' && e.target.tagName === 'TEXTAREA' && (e.ctrlKey || e.metaKey || inPlace && !e.shiftKey)) send(e)
  }
  const other = draft.kind !== kind
  return <form class={`edit${inPlace ? ' in-place' : ''}`} noValidate onSubmit={send} onKeyDown={keysOf}>
    <Field {...{ name, draft, set, focus: view.focus }} of={other ? undefined : key} />
    {says && <p class="said" role="alert">{says}</p>}
    {!inPlace && <Notes name={name} />}
    <span class="both"><button class="b main" disabled={busy}>{draft.form?.how === 'add' ? 'Add' : 'Store'}</button>
      <button type="button" class="b" onClick={close}>{inPlace ? 'Cancel' : draftOf(name) ? 'Give up my change' : 'Cancel'}</button></span>
    {!inPlace && !key && may.changes && <label class="kind">Kind <select value={draft.kind} onChange={e => {
      const k = e.currentTarget.value
      setDraft(name, { ...draftFor(k, k === kind ? entry?.value : emptyOf(k)), tag: draft.tag })
    }}>{kinds.map(k => <option value={k}>{wordFor(k)}</option>)}</select></label>}
  </form>
}

/** The field for a draft, by its kind. */
export function Field({ name, draft: { kind, form }, set, of: key, focus }) {
  const field = useRef()
  useLayoutEffect(() => { // before the next key, if the card was made again while somebody types
    const el = field.current
    if (!focus || !el) return
    el.focus()
    if (el.tagName === 'TEXTAREA') el.setSelectionRange(el.value.length, el.value.length)
    else el.select?.()
  }, [kind, form?.how])
  if (isNumber(kind)) return <>
    {may.changes && <span class="seg how" role="radiogroup" aria-label="How">{[['set', 'set to'], ['add', 'add how much']].map(([how, words]) =>
      <button type="button" role="radio" aria-checked={form.how === how} class={form.how === how ? 'on' : ''} onClick={() => set({ how, text: how === 'add' ? '' : form.text })}>{words}</button>)}</span>}
    <input ref={field} type="text" inputMode={kind === 'int' ? 'numeric' : 'decimal'} autoComplete="off" aria-label={`${form.how === 'add' ? 'Add to' : 'New value of'} ${name}`} value={form.text} onInput={e => set({ ...form, text: e.currentTarget.value })} />
  </>
  if (kind === 'bool') return <button ref={field} type="button" class={`sw${form ? '' : ' off'}`} role="switch" aria-checked={!!form} aria-label={name} onClick={() => set(!form)}><i /><b>{form ? 'yes' : 'no'}</b></button>
  if (key?.choices) return <select ref={field} aria-label={name} value={form} onChange={e => set(e.currentTarget.value)}>{[...new Set([...key.choices, form])].map(c => <option value={c}>{visible(String(c))}</option>)}</select>
  if (kind === 'time') return <span class="moment"><input ref={field} type="date" required aria-label={`Day of ${name}`} value={form.date} onInput={e => set({ ...form, date: e.currentTarget.value })} />
    <input type="time" step="1" required aria-label={`Time of ${name}`} value={form.time} onInput={e => set({ ...form, time: e.currentTarget.value })} /></span>
  if (kind === 'bytes') return <Bytes {...{ name, form, set }} />
  if (kind === 'list' || kind === 'map') return <NodeField node={form} onChange={set} label={name} whole focus={focus} />
  return <textarea ref={field} rows={Math.min(8, String(form ?? '').split('\n').length + (String(form ?? '').length > 60 ? 2 : 0))} aria-label={`New value of ${name}`} value={form} onInput={e => set(e.currentTarget.value)} />
}

function Bytes({ name, form, set }) {
  const read = async file => {
    const raw = new Uint8Array(await file.arrayBuffer())
    let all = ''
    for (let i = 0; i < raw.length; i += 8192) all += String.fromCharCode(...raw.subarray(i, i + 8192))
    set(btoa(all))
  }
  return <div class="bytes">{pictureType(form ?? '') && <img src={`data:${pictureType(form)};base64,${form}`} alt={`the picture ${name}`} />}
    <p class="second">{size(form ?? '')}</p><label class="b">Choose a file<input type="file" class="unseen" onChange={e => e.currentTarget.files[0] && read(e.currentTarget.files[0])} /></label></div>
}

const nodeWords = { text: 'text', number: 'number', bool: 'yes or no', list: 'list', map: 'map', null: 'nothing' }

/** A value inside a list or a map, or a whole list or map. whole lists have a row for each item. */
export function NodeField({ node, onChange, label, whole, focus }) {
  const field = useRef()
  useLayoutEffect(() => { // as in Field
    if (!focus || !field.current) return
    field.current.focus()
    field.current.setSelectionRange?.(field.current.value.length, field.current.value.length)
  }, [])
  const at = (i, x) => onChange({ ...node, v: node.v.map((y, j) => j === i ? x : y) })
  const without = i => onChange({ ...node, v: node.v.filter((_, j) => j !== i) })
  switch (node.k) {
    case 'bool': return <select ref={field} aria-label={label} value={String(node.v)} onChange={e => onChange({ ...node, v: e.currentTarget.value === 'true' })}><option value="true">yes</option><option value="false">no</option></select>
    case 'null': return <span class="second">nothing</span>
    case 'number': return <input ref={field} type="text" inputMode="decimal" aria-label={label} value={node.v} onInput={e => onChange({ ...node, v: e.currentTarget.value })} />
    case 'text': return <input ref={field} type="text" aria-label={label} value={node.v} onInput={e => onChange({ ...node, v: e.currentTarget.value })} />
    case 'list': return <div class="items" role="group" aria-label={label}>
      {whole && node.v.length > 1 && <button type="button" class="b small" onClick={() => without(0)}>Take the first</button>}
      <ol>{node.v.map((x, i) => <li key={i}><NodeField node={x} onChange={y => at(i, y)} label={`Item ${i + 1} of ${label}`} focus={focus && i === node.v.length - 1} />
        <Remove label={`Remove item ${i + 1} of ${label}`} onClick={() => without(i)} /></li>)}</ol>
      <More label={`Append to ${label}`} like={node.v.at(-1)} onAdd={x => onChange({ ...node, v: [...node.v, x] })} />
    </div>
  }
  return <div class="items" role="group" aria-label={label}>
    <ul>{node.v.map((m, i) => <li key={i} class="member"><input type="text" aria-label={`Name of member ${i + 1} of ${label}`} value={m.name} ref={el => { if (el && !el.seen) { el.seen = true; if (!m.name) el.focus() } }} onInput={e => at(i, { ...m, name: e.currentTarget.value })} />
      <NodeField node={m.node} onChange={n => at(i, { ...m, node: n })} label={`${m.name} of ${label}`} focus={focus && i === 0 && !!m.name} />
      <Remove label={`Remove ${m.name} of ${label}`} onClick={() => without(i)} /></li>)}</ul>
    <More label={`A new member of ${label}`} onAdd={x => onChange({ ...node, v: [...node.v, { name: '', node: x }] })} />
  </div>
}

const Remove = ({ label, onClick }) => <button type="button" class="cross" aria-label={label} onClick={onClick}>×</button>

/** Adds an item or a member: of the kind of the others, or of a chosen one. */
function More({ label, like, onAdd }) {
  const [kind, setKind] = useState('')
  const blank = { text: { k: 'text', v: '' }, number: { k: 'number', v: '' }, bool: { k: 'bool', v: false }, list: { k: 'list', v: [] }, map: { k: 'map', v: [] } }
  const of = kind || like?.k || 'text'
  return <span class="both"><button type="button" class="b small" aria-label={label} onClick={() => onAdd(!kind && like ? blankLike(like) : blank[of] ?? blank.text)}>+ {nodeWords[of] ?? 'text'}</button>
    <select aria-label={`${label}: its kind`} value={of} onChange={e => setKind(e.currentTarget.value)}>{Object.keys(blank).map(k => <option value={k}>{nodeWords[k]}</option>)}</select></span>
}

