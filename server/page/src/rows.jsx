// The dense table. It draws only the rows in view.

import { useEffect, useRef, useState } from 'preact/hooks'
import { line, visible } from './model.js'
import { Age } from './parts.jsx'
import { past, shown, waiting } from './store.js'
import { useTopics } from './topics.js'
import { setView, view } from './view.js'

const height = 44

export function Rows({ names }) {
  const box = useRef(), [seen, setSeen] = useState([0, 40])
  useEffect(() => {
    let frame
    const look = () => {
      frame ??= requestAnimationFrame(() => {
        frame = undefined
        if (!box.current) return
        const top = -box.current.getBoundingClientRect().top, first = Math.max(0, Math.floor(top / height) - 8), last = Math.ceil((top + innerHeight) / height) + 8
        setSeen(s => s[0] === first && s[1] === last ? s : [first, last])
      })
    }
    look()
    addEventListener('scroll', look, { passive: true })
    addEventListener('resize', look)
    return () => {
      removeEventListener('scroll', look)
      removeEventListener('resize', look)
      cancelAnimationFrame(frame)
    }
  }, [names.length])
  const [first, last] = [Math.min(seen[0], names.length), Math.min(seen[1], names.length)]
  const keysOf = e => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key], at = Number(e.target.closest('[data-row]')?.dataset.row)
    if (!step || !(at + step >= 0) || at + step >= names.length) return
    e.preventDefault()
    box.current.querySelector(`[data-row="${at + step}"] button`)?.focus()
    const r = document.activeElement.getBoundingClientRect()
    if (r.bottom > innerHeight - 120) scrollBy(0, height)
    if (r.top < 0) scrollBy(0, -height)
  }
  return <div class="rows" role="table" aria-label="Entries" aria-rowcount={names.length + 1} onKeyDown={keysOf}>
    <div class="row head" role="row" aria-rowindex="1">{['Name', 'Value', 'Age', 'Changed by'].map(h => <span role="columnheader">{h}</span>)}</div>
    <div ref={box} class="body" role="rowgroup" style={{ height: `${names.length * height}px` }}>
      {names.slice(first, last).map((name, i) => <Row key={name} name={name} at={first + i} />)}
    </div>
  </div>
}

function Row({ name, at }) {
  useTopics(`e ${name}`, 'past', 'view', 'rules')
  const { entry, key, kind, value } = shown(name), waits = waiting.get(name)?.length
  return <div class={`row${view.selected === name ? ' on' : ''}${entry ? '' : ' never'}`} role="row" aria-rowindex={at + 2} data-row={at} data-name={name} style={{ top: `${at * height}px` }}
    onClick={() => setView({ selected: name, tab: 'happened' })}>
    <span role="cell"><button type="button" class="name" aria-expanded={view.selected === name}><bdi>{visible(name)}</bdi></button></span>
    <span role="cell" class="value"><bdi>{kind ? line(value, kind) : 'nothing'}</bdi>{waits ? <em class="wait">waits</em> : null}</span>
    <span role="cell" class="age">{entry?.updated ? <Age at={entry.updated} past={!!past} /> : key ? 'default' : ''}</span>
    <span role="cell" class="by"><bdi>{visible(entry?.by ?? '')}</bdi></span>
  </div>
}
