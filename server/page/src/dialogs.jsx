// What opens over the page: adding an entry, sharing, what is known of the board, and taking changes back.

import { useEffect, useRef, useState } from 'preact/hooks'
import { encode } from 'uqr'
import { Field, opOf } from './editor.jsx'
import { boardName, token, tokenID } from './link.js'
import { age, emptyOf, grouped, isNumber, kinds, line, makeOp, many, near, toNode, visible, wordFor } from './model.js'
import { Copy, Dialog } from './parts.jsx'
import { board } from './board.js'
import { change, entries, facts, isKept, keepLink, keyOf, keys, names, notes, pastDifferences, restore, setPast } from './store.js'
import { useTopics } from './topics.js'
import { draftOf, setDraft, setView } from './view.js'

/** A QR code of a text, as one path. */
export function QR({ text, label }) {
  const { data, size } = encode(text, { ecc: 'M', border: 4 })
  const d = data.map((row, y) => row.map((dark, x) => dark ? `M${x} ${y}h1v1h-1z` : '').join('')).join('')
  return <svg class="qr" viewBox={`0 0 ${size} ${size}`} role="img" aria-label={label}><path d={d} /></svg>
}

// ---- Add ----

const blank = { kind: '', text: '' }

export function Add({ onClose }) {
  useTopics('d +', 'names')
  const draft = draftOf('+') ?? { name: facts?.prefix ?? '', ...blank }, [says, setSays] = useState(''), ignored = useRef('')
  const set = more => setDraft('+', { ...draft, ...more })
  const name = draft.name.trim(), key = keyOf(name), kind = key?.kind ?? draft.kind
  const known = [...new Set([...names(), ...[...keys.values()].filter(k => !k.family).map(k => k.name)])]
  const like = name && !known.includes(name) && !key ? near(name, known) : undefined
  const inner = { kind, form: draft.kind === kind && draft.form !== undefined ? draft.form : formOf(kind, key) }
  const exists = entries.get(name)
  async function send(e) {
    e.preventDefault()
    if (exists) return setSays(`${name} is there already. Change it on its card.`)
    let op
    try {
      op = kind ? opOf(name, { ...inner, tag: '0' }, key) : makeOp('put', name, `"typed":${JSON.stringify(draft.text)}`, '0')
    } catch (why) { return setSays(why) }
    const result = await change(op)
    if (result.says) return setSays(result.says)
    if (result.theirs !== undefined) return setSays(`${name} is there already. Change it on its card.`)
    notes.delete(name)
    setDraft('+', undefined)
    setView({ selected: name, tab: 'happened' })
    onClose()
  }
  return <Dialog label="Add an entry" onClose={onClose}>
    <form class="add" noValidate onSubmit={send}>
      <h2>Add an entry</h2>
      <label>Name <input name="name" list="known-names" value={draft.name} autoComplete="off" autoCapitalize="off" spellcheck={false} maxLength={250} placeholder="tank/litres" onInput={e => set({ name: e.currentTarget.value })} /></label>
      <datalist id="known-names">{[...keys.values()].filter(k => !k.family && !entries.has(k.name)).map(k => <option value={k.name} />)}{[...new Set(known.map(n => n.split('/')[0]))].map(g => known.some(n => n.startsWith(`${g}/`)) && <option value={`${g}/`} />)}</datalist>
      {like && like !== ignored.current && <p class="note"><span>Did you mean <b><bdi>{visible(like)}</bdi></b>?</span><span class="both"><button type="button" onClick={() => set({ name: like })}>Yes</button><button type="button" onClick={() => { ignored.current = like; set({}) }}>No, a new one</button></span></p>}
      {exists && <p class="note"><span>It is there already: <b><bdi>{line(exists.value, exists.kind)}</bdi></b></span><button type="button" onClick={() => { setView({ selected: name, tab: 'change' }); onClose() }}>Change it</button></p>}
      {!key && <label>Kind <select name="kind" value={draft.kind} onChange={e => set({ kind: e.currentTarget.value, form: undefined })}><option value="">guess it from the value</option>{kinds.map(k => <option value={k}>{wordFor(k)}</option>)}</select></label>}
      <div class="value-of"><span id="add-value">Value</span>{kind ? <Field name={name || 'the new entry'} draft={inner} set={form => set({ kind, form })} of={key} />
        : <input name="value" aria-labelledby="add-value" value={draft.text} autoComplete="off" onInput={e => set({ text: e.currentTarget.value })} />}</div>
      {says && <p class="said" role="alert">{says}</p>}
      <p class="both"><button class="b main">Add</button><button type="button" class="b" onClick={() => { setDraft('+', undefined); onClose() }}>Cancel</button></p>
    </form>
  </Dialog>
}

const formOf = (kind, key) => {
  const x = key?.default ?? emptyOf(kind)
  if (isNumber(kind)) return { how: 'set', text: String(x) }
  if (kind === 'list' || kind === 'map') return toNode(x)
  if (kind === 'time') {
    const d = new Date(), two = n => String(n).padStart(2, '0')
    return { date: `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`, time: `${two(d.getHours())}:${two(d.getMinutes())}` }
  }
  return x
}

// ---- Share ----

const rights = { read: 'may look', add: 'may add, but not change or remove', write: 'may change everything', own: 'may change everything and share it' }

export function Share({ onClose }) {
  const [right, setRight] = useState('read'), [label, setLabel] = useState(''), [prefix, setPrefix] = useState(facts?.prefix ?? '')
  const [made, setMade] = useState(), [list, setList] = useState([]), [says, setSays] = useState(''), [sure, setSure] = useState('')
  const load = () => board.call('GET', '/tokens').then(a => setList(a.tokens), e => setSays(e.message))
  useEffect(() => { load() }, [])
  async function make(e) {
    e.preventDefault()
    try {
      const t = await board.call('POST', '/tokens', { body: { may: right, label: label.trim() || undefined, prefix: prefix.trim() || undefined } })
      setMade(t.link)
      setLabel('')
      setSays('')
      load()
    } catch (e) { setSays(e.message) }
  }
  async function revoke(id) {
    try {
      await board.call('DELETE', `/tokens/${encodeURIComponent(id)}`)
      setSure('')
      load()
    } catch (e) { setSays(e.message) }
  }
  return <Dialog label="Share this board" onClose={onClose} className="sharing">
    <form onSubmit={make}>
      <h2>Share this board</h2>
      <fieldset><legend>Somebody with the link</legend>{Object.entries(rights).map(([id, words]) =>
        <label><input type="radio" name="may" value={id} checked={right === id} onChange={() => setRight(id)} /> {words}</label>)}</fieldset>
      <label>Its name, which shows beside its changes <input name="label" maxLength={60} value={label} placeholder="shed display" autoComplete="off" onInput={e => setLabel(e.currentTarget.value)} /></label>
      <label>Only names that begin with <input name="prefix" value={prefix} placeholder="all names" autoComplete="off" spellcheck={false} onInput={e => setPrefix(e.currentTarget.value)} /></label>
      <p class="both"><button class="b main">Make the link</button><button type="button" class="b" onClick={onClose}>Close</button></p>
      {says && <p class="said" role="alert">{says}</p>}
    </form>
    {made && <div class="made"><QR text={made} label="The link as a QR code" />
      <div><p>Anyone with this link can use it. It is shown once.</p><input class="link" readOnly aria-label="The link" value={made} onFocus={e => e.currentTarget.select()} /><Copy text={made} what="the link" /></div></div>}
    <h3>Links</h3>
    <ul class="links">{list.map(t => <li key={t.id}>
      <span><b><bdi>{visible(t.label || 'without a name')}</bdi></b>{t.id === tokenID && <em> this page uses it</em>}<small>{rights[t.may] ?? t.may}{t.prefix ? `, only ${visible(t.prefix)}` : ''}{t.made ? `, made ${age(t.made)}` : ''}</small></span>
      {sure === t.id
        ? <span class="both"><button type="button" class="b small danger" onClick={() => revoke(t.id)}>Revoke it</button><button type="button" class="b small" onClick={() => setSure('')}>Keep it</button>
          <small role="alert">{t.id === tokenID ? 'This page stops working.' : 'All that use it stop working.'}</small></span>
        : <button type="button" class="b small" aria-label={`Revoke ${t.label || t.id}`} onClick={() => setSure(t.id)}>Revoke…</button>}
    </li>)}{!list.length && <li class="second">None yet.</li>}</ul>
  </Dialog>
}

// ---- About ----

export function About({ onClose }) {
  useTopics('facts', 'link')
  const [asks, setAsks] = useState(false), f = facts ?? {}
  const rows = [
    ['Entries', f.entries !== undefined && `${grouped(f.entries)} of at most ${grouped(f.limits.names)}`],
    ['Limits', f.near !== undefined && (Number(f.near) < 0.01 ? 'nearly empty' : `${Math.round(Number(f.near) * 100)} % of the nearest limit is used`)],
    ['Load', f.requests !== undefined && `${many(f.requests, 'request')} in the last minute; room for about ${many(f.room, 'more phone', 'more phones')}`],
    ['On the way', location.protocol === 'https:' ? 'encrypted (https)' : 'not encrypted: others on the network can read and change it (http)'],
    ['Names', f.prefix ? `this link sees only ${f.prefix}` : f.closed && 'only declared names can be written'],
    ['This link', { read: 'may look', add: 'may add, but not change or remove', write: 'may change everything', own: 'may change everything and share it', admin: 'may do everything' }[f.may]],
    ['Version', f.version !== undefined && String(f.version)],
  ]
  return <Dialog label="About this board" onClose={onClose}>
    <h2>{boardName}</h2>
    <dl class="about">{rows.filter(r => r[1]).map(([k, v]) => <div><dt>{k}</dt><dd>{v}</dd></div>)}</dl>
    {token && <div class="keep"><h3>Keep on this device</h3>
      {isKept() ? <p>The link is kept in this browser, until you remove it. <button type="button" class="b small" onClick={() => keepLink(false)}>Remove it from this device</button></p>
        : asks ? <><p>This browser then opens the board without the link. Anyone who uses this browser can open it, and any page that this server serves could read the link.</p>
          <p class="both"><button type="button" class="b main small" onClick={() => { keepLink(true); setAsks(false) }}>Keep it</button><button type="button" class="b small" onClick={() => setAsks(false)}>Cancel</button></p></>
          : <p>The link stays in this tab. <button type="button" class="b small" onClick={() => setAsks(true)}>Keep on this device…</button></p>}</div>}
    <h3>Keyboard</h3>
    <dl class="keys">{[['/', 'find a name or a value'], ['W', 'wall mode: only chosen cards, very large'], ['← →', 'on the rail: look back, change by change'], ['Esc', 'back to now, or close what is open']].map(([k, v]) => <div><dt><kbd>{k}</kbd></dt><dd>{v}</dd></div>)}</dl>
    {location.protocol !== 'https:' && !/^(localhost|127\.|\[::1\])/.test(location.host) && <p class="second">Over http, this page needs the network to open.</p>}
    <p class="both"><button type="button" class="b" onClick={onClose}>Close</button></p>
  </Dialog>
}

// ---- Taking changes back ----

export function TakeBack({ onClose }) {
  const [found] = useState(pastDifferences), [out, setOut] = useState(new Set()), [says, setSays] = useState('')
  const chosen = found.filter(d => !out.has(d.name)).map(d => d.name)
  const flip = name => setOut(o => {
    const n = new Set(o)
    n.has(name) ? n.delete(name) : n.add(name)
    return n
  })
  async function go() {
    const result = await restore(chosen)
    if (result.says || result.theirs !== undefined) return setSays(result.says ?? 'Somebody was faster. Look again.')
    setPast(undefined)
    onClose()
    requestAnimationFrame(() => document.querySelector('.slide')?.focus())
  }
  return <Dialog label="Take these back" onClose={onClose} className="taking">
    <h2>Make it so again</h2>
    <p>Each line shows what is stored now, and what comes back. Clear a line to leave it as it is.</p>
    <ul class="differences">{found.map(({ name, then, now }) => <li><label><input type="checkbox" checked={!out.has(name)} onChange={() => flip(name)} />
      <span><b><bdi>{visible(name)}</bdi></b><small><bdi>{line(now?.value, now?.kind)}</bdi> → <strong><bdi>{line(then?.value, then?.kind)}</bdi></strong>{now?.by ? <>. Changed by <bdi>{visible(now.by)}</bdi>, {age(now.updated)}</> : ''}</small></span></label></li>)}</ul>
    {says && <p class="said" role="alert">{says}</p>}
    <p class="both"><button type="button" class="b main" disabled={!chosen.length || chosen.length > 1000} onClick={go}>{`Make ${chosen.length === found.length ? 'all' : grouped(chosen.length)} so again`}</button><button type="button" class="b" onClick={onClose}>Cancel</button></p>
  </Dialog>
}

