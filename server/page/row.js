// A row of the table: a name, what it holds, and what is done with it.

import { tagOf } from '/small-pantry.js'
import { Course } from './course.js'
import { make, setText } from './dom.js'
import { edit } from './edit.js'
import { age, fits, full, isNumber, json, line, makeOp, wordFor } from './values.js'

const freshFor = 8000, putBackFor = 10000 // ms

export class Row {
  notes = {} // what is said under it: {text, class, buttons}, by what says it
  constructor(table, name) {
    Object.assign(this, { table, name })
    const cut = name.lastIndexOf('/') + 1
    this.value = make('td', { class: 'value' })
    this.kind = make('td', { class: 'kind' })
    this.when = make('time')
    this.by = make('td', { class: 'by' })
    const course = make('td', { class: 'course-cell' })
    this.course = new Course(course)
    this.last = make('td', { class: 'remove-cell' })
    this.tr = make('tr', {}, make('th', { class: 'name', scope: 'row' }, cut ? make('span', { class: 'folder' }, name.slice(0, cut)) : null, name.slice(cut)), this.value, this.kind, make('td', { class: 'age' }, this.when), this.by, course, this.last)
  }

  get key() { return this.table.keyOf(this.name) }
  /** What is stored, which is drawn a moment later. */
  get newest() { return this.table.entries.get(this.name) }

  /** Shows what the entry is now. */
  draw() {
    const { entry, key, table } = this, gone = this.gone, e = gone ?? entry, kind = e?.kind ?? key?.kind, value = e ? e.value : key?.default
    this.tr.classList.toggle('gone', !!gone)
    this.tr.classList.toggle('default', !e)
    this.value.classList.toggle('number', isNumber(kind))
    this.value.classList.toggle('time', kind === 'time')
    setText(this.kind, wordFor(kind))
    setText(this.by, e?.by ?? '')
    this.when.dateTime = e?.updated ?? ''
    this.when.title = e?.updated ?? ''
    this.tick()
    if (entry && isNumber(kind) && !table.past) this.course.add(entry.value)
    if (!this.form) this.drawValue(value, kind, !e)
    if (!entry || !table.may.changes || table.past) this.last.replaceChildren()
    else if (!this.last.firstChild) this.last.append(make('button', { class: 'remove', 'aria-label': `Remove ${this.name}`, title: 'Remove', onclick: () => this.remove() }, '×'))
  }

  drawValue(value, kind, isDefault) {
    const { table, name } = this
    const shown = value === undefined ? '' : line(value, kind), text = isDefault ? `${shown} default`.trim() : shown
    const canEdit = !table.past && !this.gone && table.canEdit(this), opens = canEdit || value !== undefined && !fits(value, kind)
    const full = kind === 'time' ? String(value) : null
    const as = `shown${kind === 'list' || kind === 'map' || kind === 'bytes' ? ' mono' : ''}${value === '' && !isDefault ? ' empty' : ''}`
    const noted = JSON.stringify([text, opens, canEdit, Object.values(this.notes).map(n => n.text), full, as])
    if (this.drawn === noted && this.value.firstChild) return
    this.drawn = noted
    const had = this.value.contains(document.activeElement)
    const el = opens ? make('button', { class: as, title: full, 'aria-label': `${name}: ${full ?? text}. ${canEdit ? 'Change' : 'Show all'}`, 'aria-expanded': canEdit ? null : String(!!this.open), onclick: () => canEdit ? this.edit() : this.toggle() }, text) : make('span', { class: as, title: full }, text)
    this.value.replaceChildren(el)
    if (this.open && !canEdit) this.value.append(this.whole(value, kind))
    for (const n of Object.values(this.notes)) this.value.append(make('p', { class: `note ${n.class ?? ''}`, role: 'status' }, n.text, ...(n.buttons ?? [])))
    if (had) el.focus()
  }

  whole(value, kind) { return make('pre', { class: 'whole', tabindex: 0, 'aria-label': `All of ${this.name}` }, full(value, kind)) }
  toggle() {
    this.open = !this.open
    this.drawn = undefined
    this.draw()
    this.value.querySelector('.shown').focus()
  }

  tick() { setText(this.when, this.when.dateTime ? age(this.when.dateTime) : '') }

  /** Says something under the value, until it is said otherwise: 'row' speaks of what was done here, 'queue' of what waits. */
  say(who, note) {
    if (note) this.notes[who] = note
    else if (!this.notes[who]) return
    else delete this.notes[who]
    this.draw()
  }

  mark() {
    clearTimeout(this.fading)
    this.tr.classList.remove('fresh')
    void this.tr.offsetWidth // the fading begins anew
    this.tr.classList.add('fresh')
    this.fading = setTimeout(() => this.tr.classList.remove('fresh'), freshFor)
  }

  edit() {
    this.table.editing?.close()
    delete this.notes.row
    const close = () => {
      if (this.table.editing !== this) return
      const had = this.form.contains(document.activeElement) || document.activeElement === document.body // else somebody is elsewhere by now
      this.table.editing = this.form = this.drawn = undefined
      this.draw()
      if (had) this.value.querySelector('button.shown')?.focus()
    }
    this.close = close
    this.table.editing = this
    this.form = edit({ cell: this.value, name: this.name, entry: this.newest, key: this.key, may: this.table.may.right, close, store: op => this.table.store(op) })
  }

  async remove() {
    const e = this.newest
    if (!e) return
    this.form && this.close()
    const became = await this.table.store(makeOp('drop', this.name, '', tagOf(e)))
    if (became === '') this.goes(e)
    else this.say('row', { text: typeof became === 'string' ? became : `${became.theirs?.by || 'Somebody'} has changed it: it was not removed.` })
  }

  /** The row stands there for a while, with a way back. */
  goes(e) {
    this.table.rows.set(this.name, this) // which what came in may have taken out already
    this.entry = undefined
    this.gone = e
    this.notes.row = { text: 'removed', class: 'on-its-way', buttons: [make('button', { onclick: () => this.putBack() }, 'put back')] }
    clearTimeout(this.going)
    this.going = setTimeout(() => {
      this.returns()
      this.table.arrange()
      if (this.tr.isConnected) this.draw() // it is declared, and stands at its default
    }, putBackFor)
    const had = this.tr.contains(document.activeElement) || document.activeElement === document.body
    this.table.arrange()
    this.draw()
    if (had) this.value.querySelector('.note button')?.focus()
  }

  async putBack() {
    const e = this.gone
    const became = await this.table.store(makeOp('put', this.name, `"value":${json(e.value)},"as":"${e.kind}","kind":"${e.kind}"`, '0'))
    if (became !== '') return this.say('row', { text: typeof became === 'string' ? became : 'Somebody has stored something there meanwhile.' })
    this.returns()
    this.draw()
  }

  /** It is removed no longer, or for good. */
  returns() {
    clearTimeout(this.going)
    this.gone = undefined
    delete this.notes.row
  }
}
