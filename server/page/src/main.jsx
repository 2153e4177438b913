// The page of a board.

import './page.css'
import { render } from 'preact'
import { useEffect, useState } from 'preact/hooks'
import { Card } from './card.jsx'
import { About, Add, QR, Share, TakeBack } from './dialogs.jsx'
import { boardName, link, openLink, token } from './link.js'
import { clock, groupOf, groups, line, putOp, visible, when } from './model.js'
import { Panel } from './panel.jsx'
import { Dialog, useMedia } from './parts.jsx'
import { Rail } from './rail.jsx'
import { Rows } from './rows.jsx'
import { board } from './board.js'
import { announced, change, connectionWords, facts, isRows, known, may, names, past, pastDifferences, ready, setPast, shown, start } from './store.js'
import { useTopics } from './topics.js'
import { anyPinned, isPinned, setView, view } from './view.js'

function App() {
  useTopics('view', 'ready', 'facts', 'past')
  const [open, setOpen] = useState(''), close = () => setOpen('')
  const wide = useMedia('(min-width: 1200px)'), selected = view.selected !== undefined && !view.wall
  useEffect(() => {
    const keysOf = e => {
      if (e.ctrlKey || e.metaKey || e.altKey || e.target.closest?.('input, textarea, select, dialog')) return
      if (e.key === '/') setTimeout(() => document.getElementById('search')?.focus())
      else if (e.key === 'w' || e.key === 'W') setView({ wall: !view.wall, selected: undefined })
      else if (e.key === 'Escape' && view.wall) setView({ wall: false })
      else if (e.key === 'Escape' && past) setPast(undefined)
      else if (e.key === 'Escape' && view.selected !== undefined) setView({ selected: undefined })
      else return
      e.preventDefault()
    }
    addEventListener('keydown', keysOf)
    return () => removeEventListener('keydown', keysOf)
  }, [])
  document.body.classList.toggle('wall', view.wall)
  if (view.wall) return <><Wall /><News /></>
  return <>
    <Head open={setOpen} />
    {past && <PastBar takeBack={() => setOpen('back')} />}
    <main class={selected && wide ? 'with-panel' : ''}>
      <Entries open={setOpen} />
      {selected && wide && <aside aria-label={view.selected}><Panel name={view.selected} /></aside>}
    </main>
    {selected && !wide && <Dialog label={view.selected} className="sheet" onClose={() => setView({ selected: undefined })}><Panel name={view.selected} /></Dialog>}
    {(ready || known) && (names().length > 0) && <Rail />}
    {open === 'add' && <Add onClose={close} />}
    {open === 'share' && <Share onClose={close} />}
    {open === 'about' && <About onClose={close} />}
    {open === 'back' && <TakeBack onClose={close} />}
    <News />
  </>
}

function Head({ open }) {
  useTopics('facts', 'names', 'view', 'past', 'ready', 'rules')
  const rows = isRows(), some = ready || known
  return <header>
    <div class="board"><h1><bdi>{visible(boardName)}</bdi></h1><Connection /></div>
    {some && <><label class="search"><span class="unseen">Find a name or a value</span>
      <input id="search" type="search" placeholder="Find a name or a value" value={view.search} autoComplete="off" autoCapitalize="off" spellcheck={false} onInput={e => setView({ search: e.currentTarget.value })}
        onKeyDown={e => { if (e.key === 'ArrowDown' || e.key === 'Enter') { e.preventDefault(); document.querySelector('[data-name] .name')?.focus() } }} /><kbd aria-hidden="true">/</kbd></label>
      {may.changes && !past && !facts?.closed && <button type="button" class="b main" id="add" onClick={() => open('add')}>Add</button>}
      <span class="seg" role="group" aria-label="How the entries are shown">{[['cards', 'Cards'], ['rows', 'Rows']].map(([mode, words]) => <button type="button" aria-pressed={rows === (mode === 'rows')} class={rows === (mode === 'rows') ? 'on' : ''} onClick={() => setView({ mode })}>{words}</button>)}</span></>}
    {may.owns && <button type="button" class="b" id="share" onClick={() => open('share')}>Share</button>}
    {facts && <button type="button" class="b" id="about" onClick={() => open('about')}>About</button>}
  </header>
}

function Connection() {
  useTopics('connection', 'second', 'waiting', 'past', 'facts')
  const [text, as] = connectionWords()
  const [said, setSaid] = useState(text), plain = text.replace(/, heard \d+ s ago/, '')
  useEffect(() => { setSaid(plain) }, [plain]) // the age is not read aloud each second
  document.body.classList.toggle('stale-page', as === 'stale' || as === 'refused')
  return <div id="connection" class={as}><span class="words">{text}</span><span class="unseen" role="status">{said}</span></div>
}

function PastBar({ takeBack }) {
  useTopics('past', 'history')
  const n = pastDifferences().length
  return <div class="past-bar" role="status">
    <span><b>{sameDay(past.time) ? clock(past.time, true) : when(past.time)}.</b> {past.says ?? (n === 0 ? 'Nothing was different.' : n === 1 ? '1 thing was different.' : `${n} things were different.`)}</span>
    <span class="both">{may.changes && n > 0 && !past.says && <button type="button" class="b" onClick={takeBack}>Take these back…</button>}<button type="button" class="b" onClick={() => setPast(undefined)}>Back to now</button></span>
  </div>
}
const sameDay = t => new Date(t).toDateString() === new Date().toDateString()

function matching(all) {
  const text = view.search.trim().toLowerCase()
  if (!text) return all
  return all.filter(n => {
    if (n.toLowerCase().includes(text)) return true
    const { kind, value } = shown(n)
    return kind && (line(value, kind).toLowerCase().includes(text) || kind === 'text' && value.toLowerCase().includes(text) || String(value) === text)
  })
}

function Entries({ open }) {
  useTopics('names', 'view', 'ready', 'past', 'rules', 'connection')
  if (!ready && !known) return <section class="entries"><Closed /></section>
  const all = names(), found = matching(all)
  if (!all.length) return <section class="entries"><Empty open={open} /></section>
  return <section class="entries" aria-label="Entries">
    {!found.length && <p class="none">Nothing matches “{view.search.trim()}”.</p>}
    {found.length > 0 && (isRows() ? <Rows names={found} /> : <Cards names={found} />)}
  </section>
}

const Cards = ({ names }) => groups(names).map(({ id, firsts, names }) => <section key={id}>
  <h2>{firsts.length > 1 && firsts.length > 6 ? 'others' : <bdi>{visible(firsts.join(' · '))}</bdi>}</h2>
  <div class="shelf">{names.map(n => <Card key={n} name={n} short={firsts.length > 1 || n === groupOf(n) ? n : n.slice(firsts[0].length + 1)} />)}</div>
</section>)

/** A board that does not open: a field for a link, where one is needed. */
function Closed() {
  useTopics('connection')
  const { error } = board.status, [text, setText] = useState(''), [other, setOther] = useState()
  if (!error || !/^(unauthorized|forbidden)$/.test(error.code)) return null
  const go = e => {
    e.preventDefault()
    let url
    try { url = new URL(text.trim()) } catch { return setOther({ says: 'This is no link. A link begins with http:// or https://.' }) }
    if (!/^https?:$/.test(url.protocol) || !url.pathname.startsWith('/boards/')) return setOther({ says: 'This is no link to a board.' })
    url.origin === location.origin ? openLink(url) : setOther({ url })
  }
  return <form class="paste" onSubmit={go}>
    <label>Paste the link of the board <input name="link" value={text} autoComplete="off" spellcheck={false} placeholder={`${location.origin}/boards/…#…`} onInput={e => { setText(e.currentTarget.value); setOther(undefined) }} /></label>
    <button class="b main">Open it</button>
    {other?.says && <p class="said" role="alert">{other.says}</p>}
    {other?.url && <p class="note" role="alert"><span>This link leads to another server, <b>{other.url.host}</b>.</span><span class="both"><button type="button" onClick={() => { location.href = other.url.href }}>Go there</button><button type="button" onClick={() => setOther(undefined)}>Stay</button></span></p>}
  </form>
}

// ---- The first visit ----

const ghosts = [['tank/litres', 'int', 0, 'a number', '0'], ['gate/open', 'bool', false, 'yes or no', 'no'], ['hose/queue', 'list', [], 'a list', 'C4 · B2']]

function Empty({ open }) {
  const prefix = facts?.prefix ?? ''
  if (!may.changes) return <p class="none">Nothing is stored here yet. It shows as soon as something is.</p>
  return <div class="welcome">
    <div><h2>Nothing is stored here yet. Begin with one of these.</h2>
      {facts?.closed ? <p>Only declared names can be written here.</p> : <div class="shelf">{ghosts.map(([name, kind, value, words, sample]) => <button type="button" class="c ghost" onClick={() => { change(putOp(prefix ? prefix + name.split('/')[1] : name, kind, value, '0')); setView({ selected: prefix ? prefix + name.split('/')[1] : name, tab: 'change' }) }}>
        <span class="n">{prefix ? prefix + name.split('/')[1] : name}</span><span class="v">{sample}</span><span class="q">{words}</span></button>)}</div>}
      {!facts?.closed && <p><button type="button" class="b" onClick={() => open('add')}>Another name…</button></p>}</div>
    <figure class="phone"><QR text={link} label="This link as a QR code" /><figcaption>Open this on your phone. Both change together.{token ? ' Anyone with this link can use it.' : ''}</figcaption></figure>
  </div>
}

// ---- Wall mode ----

function Wall() {
  useTopics('names', 'view', 'ready')
  const chosen = names().filter(n => anyPinned() ? isPinned(n) : true).slice(0, 12)
  return <main class="on-wall">
    <h1 class="unseen">{boardName}</h1>
    <div class="wall-shelf">{chosen.map(n => <WallCard key={n} name={n} />)}</div>
    <p class="wall-foot"><Connection /><span>{anyPinned() ? '' : 'Choose cards for the wall in what opens when a card is touched. '}<button type="button" class="b small" onClick={() => setView({ wall: false })}>Close (Esc)</button></span></p>
  </main>
}

function WallCard({ name }) {
  useTopics(`e ${name}`, 'rules')
  const { entry, kind, value } = shown(name)
  const text = kind ? line(value, kind) : 'nothing'
  return <div class={`c${entry ? '' : ' never'}`}><div class="n"><bdi>{visible(name)}</bdi></div><div class={`v${text.length > 24 ? ' longest' : text.length > 9 ? ' long' : ''}`}><bdi>{text}</bdi></div></div>
}

function News() {
  useTopics('announced')
  return <p class="unseen" id="news" aria-live="polite">{announced}</p>
}

document.title = boardName
render(<App />, document.getElementById('app'))
start()
// The first view comes first.
if (window.isSecureContext) setTimeout(() => navigator.serviceWorker?.register('/small-pantry/worker.js', { scope: '/boards/' }).catch(() => {}), 1000)

