// The table of what is stored.

import { $, make, setText } from './dom.js'
import { Row } from './row.js'
import { isNumber, json } from './values.js'

const atOnce = 200 // rows drawn; more when somebody comes to their end
const collator = new Intl.Collator(undefined, { numeric: true })

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
