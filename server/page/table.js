// The table of what is stored: a row a name.

import { $, make, setText } from './dom.js'
import { edit } from './edit.js'
import { age, fits, full, isNumber, json, line, makeOp, tagOf, wordFor } from './values.js'

const atOnce = 200 // rows drawn; more when somebody comes to their end
const freshFor = 8000, putBackFor = 10000 // ms
const collator = new Intl.Collator(undefined, { numeric: true })

// The course of a number since the page was opened.
const mostPoints = 80 // of a course, one for each pixel

class Course {
  points = []
  constructor(cell) { this.cell = cell }
  draw() {
    this.svg = document.createElementNS('http://www.w3.org/2000/svg', 'svg')
    this.path = document.createElementNS('http://www.w3.org/2000/svg', 'path')
    this.svg.append(this.path)
    this.svg.setAttribute('class', 'course')
    this.svg.setAttribute('viewBox', '0 0 80 20')
    this.svg.setAttribute('preserveAspectRatio', 'none')
    this.svg.setAttribute('role', 'img')
    this.cell.replaceChildren(this.svg)
  }
  add(value) {
    const x = Number(value)
    if (x === this.points.at(-1)) return
    this.points.push(x)
    if (this.points.length > mostPoints) this.points.shift()
    if (this.points.length < 2) return
    if (!this.svg) this.draw()
    const least = Math.min(...this.points), largest = Math.max(...this.points), step = 80 / (this.points.length - 1)
    this.path.setAttribute('d', this.points.map((p, i) => `${i ? 'L' : 'M'}${(i * step).toFixed(1)} ${(18 - 16 * (p - least) / (largest - least || 1)).toFixed(1)}`).join(''))
    const label = `least ${least}, most ${largest}, last ${value}`
    this.svg.setAttribute('aria-label', label)
    this.cell.title = label
  }
}

class Row {
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
    setText(this.kind, e && !entry && !gone ? '' : wordFor(kind))
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

export class Table {
  rows = new Map()
  headings = new Map()
  news = new Map() // what changed since it was drawn, and whether that is to be marked
  limit = atOnce
  entries = new Map()
  keys = new Map()
  may = { right: 'read', changes: false }
  /** store makes an op, and gives '' where it is stored, else a sentence or {theirs, shown}. */
  constructor(store) {
    this.store = store
    this.body = $('table').tBodies[0]
    $('filter').addEventListener('input', () => {
      this.limit = atOnce
      this.arrange()
    })
    const end = new IntersectionObserver(seen => {
      if (!seen.some(e => e.isIntersecting) || $('more').hidden) return
      this.limit += atOnce
      this.arrange()
      end.unobserve($('more')) // so that it is told again, where the end is in sight at once
      end.observe($('more'))
    }, { rootMargin: '600px' })
    end.observe($('more'))
    setInterval(() => { for (const row of this.shown ?? []) row.tick() }, 1000)
    this.body.addEventListener('keydown', e => {
      if (e.target.closest('form') || e.ctrlKey || e.metaKey || e.altKey) return
      const row = [...this.rows.values()].find(r => r.tr.contains(e.target)), step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
      if (e.key === 'Delete' && row?.entry && this.may.changes && !this.past) row.remove()
      else if (step && row) this.focus(this.shown.indexOf(row) + step, step)
      else return
      e.preventDefault()
    })
    $('filter').addEventListener('keydown', e => { if (e.key === 'ArrowDown' || e.key === 'Enter') { e.preventDefault(); setTimeout(() => this.focus(0, 1)) } })
  }

  focus(at, step) {
    for (; this.shown[at]; at += step) {
      const el = this.shown[at].value.querySelector('button')
      if (el) return el.focus()
    }
    if (at < 0) $('filter').focus()
  }

  keyOf(name) {
    const key = this.keys.get(name)
    if (key && !key.family) return key
    for (let cut = name.lastIndexOf('/'); cut > 0; cut = name.lastIndexOf('/', cut - 1)) if (this.keys.get(name.slice(0, cut))?.family) return this.keys.get(name.slice(0, cut))
    return undefined
  }

  canEdit(row) {
    const { right, changes } = this.may, kind = row.entry?.kind ?? row.key?.kind
    return changes || right === 'add' && (isNumber(kind) || kind === 'list')
  }

  /** Takes in what whoever looks may do, and the declared keys. */
  setRules(right, keys) {
    const rules = json([right, keys])
    if (rules === this.rules) return
    this.rules = rules
    this.keys = new Map(keys.map(k => [k.name, k]))
    this.may = { right, changes: right === 'write' || right === 'own' || right === 'admin' }
    this.redraw()
  }
  /** Shows a moment of the past instead; undefined: the present. */
  setPast(entries) {
    this.editing?.close()
    this.past = entries
    document.body.classList.toggle('past', !!entries)
    this.redraw()
  }
  redraw() {
    if (!this.shown) return // which begins with arrange
    for (const row of this.rows.values()) row.drawn = undefined
    this.arrange()
    for (const row of this.shown) row.draw()
  }

  /** Takes in what changed; first: nothing of it is news. Much that comes at once is drawn once. */
  update(changed, first) {
    for (const [name, e] of changed) {
      e ? this.entries.set(name, e) : this.entries.delete(name)
      this.news.set(name, !first)
    }
    this.frame ??= setTimeout(() => {
      this.frame = undefined
      const news = this.news
      this.news = new Map()
      if (this.past || !this.shown) return
      for (const [name] of news) {
        const row = this.rows.get(name), e = this.entries.get(name)
        if (!row || row.entry?.version === e?.version && row.entry?.updated === e?.updated) {
          news.set(name, !row && news.get(name))
          continue
        }
        if (e && row.gone) row.returns()
        row.entry = e
        row.draw()
        if (news.get(name)) row.mark()
      }
      this.arrange(news)
    }, 30)
  }

  heading(first) {
    if (!this.headings.has(first)) this.headings.set(first, make('tr', { class: 'heading' }, make('td', { colspan: 7 }, first)))
    return this.headings.get(first)
  }

  /** The names that there are, as people sort them. */
  names() {
    const names = new Set((this.past ?? this.entries).keys())
    if (!this.past) {
      for (const k of this.keys.values()) if (!k.family && !k.gone) names.add(k.name)
      for (const row of this.rows.values()) if (row.gone || row.form) names.add(row.name)
    }
    const same = this.sorted?.filter(n => names.has(n)) ?? [], known = new Set(same), more = [...names].filter(n => !known.has(n))
    if (more.length > 20) return this.sorted = [...names].sort(collator.compare)
    for (const n of more) { // a few go to their places
      let at = 0, end = same.length
      while (at < end) {
        const middle = (at + end) >> 1
        collator.compare(same[middle], n) < 0 ? at = middle + 1 : end = middle
      }
      same.splice(at, 0, n)
    }
    return this.sorted = same
  }

  /** Puts the rows in their order, as the filter has it. */
  arrange(news = new Map()) {
    const from = this.past ?? this.entries, wanted = $('filter').value.trim().toLowerCase(), names = this.names()
    for (const name of this.rows.keys()) if (!from.has(name) && !this.keys.has(name) && !this.rows.get(name).gone && !this.rows.get(name).form) this.rows.delete(name)
    const all = wanted ? names.filter(n => n.toLowerCase().includes(wanted)) : names, drawn = all.slice(0, this.limit)
    const groups = new Map()
    for (const n of drawn) groups.set(n.split('/', 1)[0], (groups.get(n.split('/', 1)[0]) ?? 0) + 1)
    const trs = []
    let group
    this.shown = drawn.map(name => {
      let row = this.rows.get(name)
      const isNew = !row, e = from.get(name)
      if (isNew) this.rows.set(name, row = new Row(this, name))
      if (isNew || row.entry !== e) row.entry = e, row.draw()
      if (isNew && news.get(name)) row.mark()
      const first = name.split('/', 1)[0]
      if (first !== group && groups.get(first) > 2) trs.push(this.heading(first))
      group = first
      trs.push(row.tr)
      return row
    })
    const had = document.activeElement
    trs.forEach((tr, i) => { if (this.body.children[i] !== tr) this.body.insertBefore(tr, this.body.children[i] ?? null) })
    while (this.body.children.length > trs.length) this.body.lastChild.remove()
    if (this.body.contains(had)) had.focus({ preventScroll: true })
    $('more').hidden = all.length <= drawn.length
    setText($('more'), `${all.length - drawn.length} more names`)
    $('table').hidden = names.length === 0
    this.onNames?.(names.length)
  }
}
