// What a browser keeps of a board in IndexedDB: the changes that wait, and what was known last.

const open = () => new Promise((ok, no) => {
  const rq = indexedDB.open('small-pantry', 2)
  rq.onupgradeneeded = () => {
    const db = rq.result, names = db.objectStoreNames
    if (!names.contains('queue')) db.createObjectStore('queue', { keyPath: 'id', autoIncrement: true }).createIndex('place', 'place')
    if (!names.contains('known')) db.createObjectStore('known', { keyPath: ['place', 'who', 'name'] }).createIndex('of', ['place', 'who'])
  }
  rq.onsuccess = () => {
    rq.result.onversionchange = () => rq.result.close()
    ok(rq.result)
  }
  rq.onerror = () => no(rq.error)
  rq.onblocked = () => no(new Error('another page holds an older version of the storage open'))
})

export class Storage {
  #db

  constructor(place, who) { Object.assign(this, { place, who }) }

  #opened() { return this.#db ??= open() }

  async #transaction(store, durability, f) {
    const t = (await this.#opened()).transaction(store, 'readwrite', { durability })
    await new Promise((ok, no) => {
      f(t.objectStore(store))
      t.oncomplete = ok
      t.onabort = () => no(t.error)
    })
  }

  /** Calls f with the store and the changes of the place, in one transaction, and returns the changes after it. */
  async queue(f) {
    let items = []
    await this.#transaction('queue', 'strict', store => {
      const all = f => { store.index('place').getAll(this.place).onsuccess = e => f(e.target.result) }
      all(was => {
        f?.(store, was)
        all(is => { items = is })
      })
    })
    return items
  }

  /** Returns the entries that were known last, by name, and the time at which they were read. */
  async known() {
    const entries = new Map()
    let asOf
    await this.#transaction('known', 'relaxed', store => {
      store.index('of').getAll([this.place, this.who]).onsuccess = e => {
        for (const { name, entry, at } of e.target.result) name ? entries.set(name, entry) : asOf = at
      }
    })
    return { entries, asOf }
  }

  /** Stores what is known; an entry without a kind is absent. */
  async keep(entries, at) {
    const { place, who } = this
    await this.#transaction('known', 'relaxed', store => {
      for (const [name, entry] of entries) entry?.kind ? store.put({ place, who, name, entry }) : store.delete([place, who, name])
      store.put({ place, who, name: '', at })
      store.transaction.commit() // a page that is being left waits for nothing
    })
  }
}
