// A link for somebody else, and those that are out.

import { $, make, setText } from './dom.js'
import { age } from './values.js'

const may = { read: 'may look', add: 'may count and append', write: 'may change everything', own: 'may share it too' }

export class Share {
  constructor(board, prefix) {
    Object.assign(this, { board, prefix })
    this.dialog = $('sharing')
    this.form = this.dialog.querySelector('form')
    this.said = this.form.querySelector('.said')
    $('share').addEventListener('click', () => this.open())
    this.form.addEventListener('submit', e => {
      if (e.submitter?.value !== 'make') return
      e.preventDefault()
      this.make()
    })
    this.dialog.addEventListener('close', () => this.forget())
    $('copy').addEventListener('click', async () => {
      $('link').select()
      try { await navigator.clipboard.writeText($('link').value) } catch { document.execCommand('copy') }
      setText($('copy'), 'Copied')
    })
  }

  open() {
    this.forget()
    this.form.elements.prefix.value = this.prefix
    this.dialog.showModal()
    this.list()
  }

  /** Nothing of a link is left once the dialog is closed. */
  forget() {
    $('made').hidden = true
    $('link').value = ''
    this.form.querySelector('svg path').setAttribute('d', '')
    setText(this.said, '')
    setText($('copy'), 'Copy the link')
  }

  async make() {
    const f = this.form.elements
    setText(this.said, '')
    try {
      const t = await this.board.call('POST', '/tokens', { query: { qr: true }, body: { may: f.may.value, label: f.label.value.trim() || undefined, prefix: f.prefix.value.trim() || undefined } })
      if (!this.dialog.open) return
      $('link').value = t.link
      const svg = this.form.querySelector('svg')
      svg.setAttribute('viewBox', `-4 -4 ${t.qr.side + 8} ${t.qr.side + 8}`)
      svg.querySelector('path').setAttribute('d', t.qr.path)
      $('made').hidden = false
      $('made').scrollIntoView({ block: 'nearest' })
      f.label.value = ''
      this.list()
    } catch (e) { setText(this.said, e.message) }
  }

  async list() {
    try {
      const { tokens } = await this.board.call('GET', '/tokens')
      $('links').replaceChildren(...tokens.map(t => make('li', {},
        make('span', {}, `${t.label || 'without a name'}: ${may[t.may] ?? t.may}${t.prefix ? `, only ${t.prefix}` : ''}`, make('span', { class: 'small' }, t.made ? `, made ${age(t.made)} ago` : '')),
        make('button', { type: 'button', 'aria-label': `Revoke ${t.label || t.id}`, onclick: () => this.revoke(t.id) }, 'Revoke'))))
      if (!tokens.length) $('links').replaceChildren(make('li', { class: 'small' }, 'None yet.'))
    } catch (e) { setText(this.said, e.message) }
  }

  async revoke(id) {
    try {
      await this.board.call('DELETE', `/tokens/${encodeURIComponent(id)}`)
      this.list()
    } catch (e) { setText(this.said, e.message) }
  }
}
