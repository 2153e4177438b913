// What is known of the requested part of a board.

export class View {
  names = new Set() // requested
  prefixes = [] // and everything that begins so; one for each user
  entries = new Map() // by name; without a kind: absent
  old = new Map() // entries from an earlier visit, until the server has answered
  mark = '' // entries are those of the board at this mark; '' means that everything must be requested
  version = 0
  epoch = 0 // counts when answers to earlier questions became invalid

  has(name) { return this.names.has(name) || this.prefixes.some(p => name.startsWith(p)) }

  get idle() { return !this.names.size && !this.prefixes.length }

  /** Returns an entry, which has no kind if it is absent; undefined means unknown. */
  entry(name) { return this.entries.get(name) ?? (this.mark ? {} : this.old.get(name)) }

  /** Reports whether what entry returns is from an earlier visit. */
  isOld(name) { return !this.mark && !this.entries.has(name) && this.old.has(name) }

  /** Requests a name. It returns true if the next question has to request everything. */
  bind(name) {
    const known = this.has(name)
    this.names.add(name)
    if (!known) this.forgetMark()
    return !known
  }

  bindPrefix(prefix) {
    const known = this.prefixes.some(p => prefix.startsWith(p))
    this.prefixes.push(prefix)
    if (!known) this.forgetMark()
    return !known
  }

  unbindPrefix(prefix) {
    this.prefixes.splice(this.prefixes.indexOf(prefix), 1)
    for (const name of this.entries.keys()) if (!this.has(name)) this.entries.delete(name)
  }

  /** A mark is valid for the question that it answered. */
  forgetMark() {
    this.mark = ''
    this.epoch++
  }

  /** Returns the parameters of the next question, and what its answer is compared with. */
  question() {
    const query = this.idle ? { names: true, limit: 1 } : { name: [...this.names].sort(), prefix: this.prefixes }
    return { query, since: this.mark || undefined, asked: { epoch: this.epoch, mark: this.mark } }
  }

  /**
   * Applies an answer and returns the names that changed. An answer counts if it has all changes since
   * the mark, or if it is whole and was requested with this mark. undefined means: ask again.
   */
  take(asked, page) {
    if (this.idle) return new Set()
    if (asked.epoch !== this.epoch) return undefined
    if (page.whole && asked.mark !== this.mark) return undefined
    if (!page.whole && page.since !== this.mark) return parseInt(page.mark) <= parseInt(this.mark) ? new Set() : undefined
    const changed = new Set(page.whole ? [...this.names, ...this.entries.keys(), ...this.old.keys()].filter(n => this.has(n)) : page.gone.map(e => e.name))
    for (const name of changed) this.names.has(name) ? this.entries.set(name, { name }) : this.entries.delete(name)
    for (const e of page.entries) {
      if (!this.has(e.name)) continue
      this.entries.set(e.name, e)
      changed.add(e.name)
    }
    if (page.whole) this.old.clear()
    this.mark = page.mark
    this.version = page.version
    return changed
  }

  /** Applies a mark that came alone: since then only other names have changed. */
  moveTo(asked, mark) {
    if (asked.epoch === this.epoch && asked.mark === this.mark) this.mark = asked.mark = mark
  }
}

/** Returns an entry of a page. */
export const entryOf = (page, name) => page.entries.find(e => e.name === name)
