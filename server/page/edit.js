// A value becomes an input in its place.

import { tagOf } from '/small-pantry.js'
import { make } from './dom.js'
import { fits, fromLines, full, isAmount, isNumber, kinds, makeOp, toLines, typed, wordFor } from './values.js'

// The input for a kind: its element, and what is typed in it.
function inputFor(kind, value, key, label) {
  const has = value !== undefined
  if (key?.choices) {
    const el = make('select', { 'aria-label': label }, ...key.choices.map(c => make('option', { value: c, selected: c === value }, c)))
    if (has && !key.choices.includes(value)) el.prepend(make('option', { value, selected: true, disabled: true }, value))
    return { el, typed: () => el.value }
  }
  if (kind === 'bool') {
    const el = make('input', { type: 'checkbox', role: 'switch', 'aria-label': label })
    el.checked = value === true
    return { el, typed: () => String(el.checked) }
  }
  const long = kind === 'list' || kind === 'map' || kind === 'bytes' || kind === 'text' && has && !fits(value, kind)
  const el = make(long ? 'textarea' : 'input', { 'aria-label': label, spellcheck: 'false', ...long ? { rows: 5 } : { type: 'text', autocomplete: 'off', inputmode: isNumber(kind) ? 'decimal' : null } })
  if (has) el.value = kind === 'list' ? toLines(value) : typed(value, kind)
  return { el, typed: () => kind === 'list' ? fromLines(el.value) : isNumber(kind) || kind === 'time' ? el.value.trim() : el.value }
}

const hints = { list: 'one item a line', map: 'as JSON', bytes: 'in base64', time: 'such as 2026-05-03T09:00:00Z' }

/**
 * Puts an editor into a cell. store is given the op that is to be made, and gives what became of
 * it: '' where it is stored, else a sentence, or {theirs} where somebody was faster.
 */
export function edit({ cell, name, entry, key, may, store, close }) {
  const kind = entry?.kind ?? key?.kind ?? 'text', label = `Value of ${name}`
  const adds = may === 'add' // who may count and append, does that alone
  let input = adds ? inputFor(isNumber(kind) ? kind : 'text', undefined, undefined, isNumber(kind) ? `Amount to add to ${name}` : `Item to append to ${name}`) : inputFor(kind, entry?.value ?? key?.default, key, label)
  const ask = make('span', { class: 'line' }, input.el), said = make('p', { class: 'said', role: 'alert' })
  const range = make('span', { class: 'range' })
  const explain = kind => {
    range.textContent = adds ? (isNumber(kind) ? 'is added; a negative one takes away' : 'is appended') : [key?.about, key?.min != null ? `${key.min} to ${key.max}` : hints[kind]].filter(Boolean).join(' · ')
  }
  const pick = !adds && !key && make('select', { 'aria-label': `Kind of ${name}`, onchange: () => {
    const kept = input.typed()
    input = inputFor(pick.value, undefined, undefined, label)
    if ('value' in input.el && input.el.type !== 'checkbox') input.el.value = pick.value === 'list' && kind !== 'list' && kept ? kept : kind === 'list' && pick.value === 'text' ? full(entry.value, 'list') : kept
    else if (input.el.type === 'checkbox') input.el.checked = kept === 'true'
    ask.replaceChildren(input.el)
    explain(pick.value)
    input.el.focus()
  } }, ...kinds.map(k => make('option', { value: k, selected: k === kind }, wordFor(k))))
  explain(kind)
  const does = adds ? (isNumber(kind) ? 'Add' : 'Append') : 'Store', submit = make('button', { class: 'main' }, does)
  const choose = make('span', { class: 'line', hidden: true })
  const usual = make('span', { class: 'line' }, submit, make('button', { type: 'button', onclick: () => close() }, 'Leave'), pick || null)
  const form = make('form', { class: 'edit', novalidate: true }, ask, range, usual, said, choose)
  let tag = tagOf(entry)
  const op = () => {
    const text = input.typed(), as = pick ? pick.value : kind
    if (!adds) return makeOp('put', name, `"typed":${JSON.stringify(text)},"kind":"${as}"`, tag)
    if (!isNumber(kind)) return makeOp('append', name, `"item":${JSON.stringify(text)}`)
    return isAmount(text) ? makeOp('add', name, `"amount":${text}`) : undefined
  }
  async function send(event) {
    event?.preventDefault()
    const made = op()
    if (!made) return void (said.textContent = 'This takes a number.')
    submit.disabled = true
    submit.textContent = 'sending'
    choose.hidden = true
    usual.hidden = false
    said.textContent = ''
    const became = await store(made)
    submit.disabled = false
    submit.textContent = does
    if (became === '') return close()
    if (typeof became === 'string') return void (said.textContent = became)
    const { theirs, shown } = became // somebody was faster
    said.textContent = theirs ? `${theirs.by || 'Somebody'} was faster: it is ${shown} now.` : 'Somebody was faster, and has removed it.'
    tag = tagOf(theirs)
    choose.replaceChildren(make('button', { type: 'button', onclick: () => close() }, 'Keep theirs'), make('button', { type: 'button', onclick: () => send() }, 'Store mine'))
    choose.hidden = false
    usual.hidden = true
    choose.firstChild.focus()
  }
  form.addEventListener('submit', send)
  form.addEventListener('keydown', e => {
    if (e.key === 'Escape') { e.stopPropagation(); close() }
    if (e.key === 'Enter' && e.target.tagName === 'INPUT' && e.target.type === 'checkbox') send(e)
    if (e.key === 'Enter' && e.target.tagName === 'TEXTAREA' && (e.ctrlKey || e.metaKey)) send(e)
  })
  cell.replaceChildren(form)
  input.el.focus()
  input.el.select?.()
  return form
}
