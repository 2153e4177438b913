// Small parts that several components use.

import { useEffect, useLayoutEffect, useRef, useState } from 'preact/hooks'
import { age, line, opText, stepOf, visible, when } from './model.js'
import { dropNote, insist, notes, storeMine, takeBack, tap, waiting } from './store.js'
import { useTopics } from './topics.js'

/** A moment in the past, which keeps itself true. */
export function Age({ at, by, past }) {
  useTopics(past ? 'never' : 'second')
  const text = at ? age(at) : ''
  return <span title={at ? `${when(at)}${by ? `, ${by}` : ''}` : undefined}>{text}{text && by ? ', ' : ''}{by && <bdi>{visible(by)}</bdi>}</span>
}

/** − and +, which add. */
export function Steps({ name, kind, of }) {
  const step = stepOf(kind, of)
  return <span class="step">
    <button type="button" aria-label={`Take ${step} from ${name}`} onClick={() => tap(name, -step, kind, of)}>−</button>
    <button type="button" aria-label={`Add ${step} to ${name}`} onClick={() => tap(name, step, kind, of)}>+</button>
  </span>
}

/** What waits, what was refused, and who was faster, for one entry. */
export function Notes({ name }) {
  const own = notes.get(name), queued = waiting.get(name) ?? []
  return <>
    {queued.map(w => w.error?.code === 'conflict'
      ? <div class="note refused" key={w.id}><span><bdi>{opText(w.op)}</bdi> was not stored. {w.theirs
        ? <>Changed by <bdi>{visible(w.theirs.by || 'somebody')}</bdi>, {age(w.theirs.updated)}: <b><bdi>{line(w.theirs.value, w.theirs.kind)}</bdi></b></>
        : 'Somebody removed it first.'}</span>
        <span class="both"><button type="button" onClick={() => takeBack(w.id)}>Keep theirs</button> <button type="button" onClick={() => storeMine(w.id)}>{w.op.op === 'drop' ? 'Remove it' : 'Store mine'}</button></span></div>
      : w.error
      ? <div class="note refused" key={w.id}><span>{opText(w.op)} was refused: {w.error.message}</span>
        <button type="button" onClick={() => takeBack(w.id)}>Give up my change</button></div>
      : <div class="note" key={w.id}><span><bdi>{opText(w.op)}</bdi>{w.other ? ', kept for another link of this browser' : ', waits'}</span>
        <button type="button" aria-label={`Take back the change of ${name}`} onClick={() => takeBack(w.id)}>take back</button></div>)}
    {own?.says && <div class="note refused" role="alert"><span>{own.says}</span><button type="button" onClick={() => dropNote(name)}>Close</button></div>}
    {own && own.theirs !== undefined && <div class="note" role="alert"><span>{own.theirs
      ? <>Changed by <bdi>{visible(own.theirs.by || 'somebody')}</bdi>, {age(own.theirs.updated)}: <b><bdi>{line(own.theirs.value, own.theirs.kind)}</bdi></b></>
      : 'Somebody removed it.'}</span>
      <span class="both"><button type="button" onClick={() => dropNote(name)}>Keep theirs</button> <button type="button" onClick={() => insist(name)}>{own.op.op === 'drop' ? 'Remove it' : 'Store mine'}</button></span></div>}
  </>
}

/** A dialog that is modal while it is shown. The focus returns when it closes. */
export function Dialog({ label, onClose, children, className }) {
  const dialog = useRef()
  useLayoutEffect(() => {
    const before = document.activeElement
    dialog.current.showModal()
    return () => before?.isConnected && before.focus?.()
  }, [])
  return <dialog ref={dialog} class={className} aria-label={label} onClose={onClose} onClick={e => e.target === dialog.current && dialog.current.close()}>
    <div class="inside">{children}</div>
  </dialog>
}

/** Copies a text. Over plain http a browser may refuse, so that the text is selected instead. */
export function Copy({ text, what }) {
  const [done, setDone] = useState(''), field = useRef()
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text)
      setDone('Copied')
    } catch {
      field.current.hidden = false
      field.current.select()
      setDone(document.execCommand('copy') ? 'Copied' : 'Selected: copy it')
    }
  }
  return <><button type="button" class="b" onClick={copy}>{done || `Copy ${what}`}</button>
    <textarea ref={field} hidden readOnly value={text} aria-label={what} rows="1" /></>
}

/** The width of an element, as it changes. */
export function useWidth(ref) {
  const [width, setWidth] = useState(0)
  useEffect(() => {
    const seen = new ResizeObserver(([e]) => setWidth(Math.floor(e.contentRect.width)))
    seen.observe(ref.current)
    return () => seen.disconnect()
  }, [])
  return width
}

/** Whether a media query matches, as it changes. */
export function useMedia(query) {
  const [is, setIs] = useState(() => matchMedia(query).matches)
  useEffect(() => {
    const m = matchMedia(query), f = () => setIs(m.matches)
    m.addEventListener('change', f)
    f()
    return () => m.removeEventListener('change', f)
  }, [query])
  return is
}
