// What happened: the newest commits, and a moment to go back to.

import { $, make, setText } from './dom.js'
import { age, line } from './values.js'

const atOnce = 20, most = 200 // commits
const idOf = c => `${c.version} ${c.at}` // a board that is made again has the same versions again

export class Happened {
  commits = []
  drawn = new Map()
  constructor(board, go) {
    Object.assign(this, { board, go })
    this.list = document.querySelector('#happened ol')
    this.said = document.querySelector('#happened .said')
    if (window.matchMedia('(max-width: 899px)').matches) $('happened').open = false
    $('happened').addEventListener('toggle', () => this.load())
    $('older').addEventListener('click', () => this.load(this.commits.at(-1)?.version))
    setInterval(() => { for (const t of this.list.querySelectorAll('time')) setText(t, age(t.dateTime)) }, 5000)
  }

  /** Asks for the newest commits, or for those before one. */
  async load(before) {
    if (!$('happened').open) return
    try {
      const got = await this.board.call('GET', '/history', { query: { limit: atOnce, before } })
      const seen = new Set(this.commits.map(idOf))
      const fresh = got.commits.filter(c => !seen.has(idOf(c)))
      // What is old is kept only as far as it goes on from the newest without a gap.
      this.commits = before ? [...this.commits, ...fresh] : fresh.length === got.commits.length ? got.commits : [...fresh, ...this.commits.slice(0, most)]
      $('older').hidden = got.commits.length < atOnce && !got.next || this.commits.length > most
      setText(this.said, '')
      this.draw(before || seen.size === 0 ? [] : fresh)
    } catch (e) {
      if (e.code !== 'unreachable') setText(this.said, e.message)
    }
  }

  draw(fresh) {
    const items = this.commits.map(c => {
      if (!this.drawn.has(idOf(c))) this.drawn.set(idOf(c), this.item(c))
      return this.drawn.get(idOf(c))
    })
    const ids = new Set(this.commits.map(idOf))
    for (const id of this.drawn.keys()) if (!ids.has(id)) this.drawn.delete(id)
    for (const c of fresh) {
      const li = this.drawn.get(idOf(c))
      li.classList.add('fresh')
      setTimeout(() => li.classList.remove('fresh'), 8000)
    }
    this.list.replaceChildren(...items)
    if (!items.length) this.list.append(make('li', { class: 'small' }, 'Nothing has happened here yet.'))
  }

  item(c) {
    const few = 8, changes = c.changes ?? []
    const show = (value, kind) => value === null || value === undefined ? 'nothing' : line(value, kind)
    return make('li', {},
      ...changes.slice(0, few).map(ch => make('p', { class: 'change' }, `${ch.name} `, make('span', { class: 'old' }, show(ch.old, ch.old_kind)), ' → ', make('span', { class: 'value' }, show(ch.new, ch.new_kind)))),
      changes.length > few ? make('p', { class: 'small' }, `and ${changes.length - few} more`) : null,
      make('div', { class: 'about' }, make('span', { class: 'small' }, c.by ? `${c.by}, ` : '', make('time', { datetime: c.at, title: c.at }, age(c.at))),
        make('button', { 'aria-label': `as it was then, after version ${c.version}`, onclick: () => this.go(c) }, 'as it was then')))
  }
}
