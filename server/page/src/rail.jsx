// The rail: the last hour, day or month, with a tick for each change. Dragging it shows the past.

import { useRef, useState } from 'preact/hooks'
import { age, clock, marks, ranges, when } from './model.js'
import { Ranges } from './panel.jsx'
import { useWidth } from './parts.jsx'
import { commits, range, thinned } from './history.js'
import { past, setPast } from './store.js'
import { useTopics } from './topics.js'

export function Rail() {
  useTopics('history', 'past', 'range', 'minute', 'ready')
  const box = useRef(), width = useWidth(box) || 800, drag = useRef(false), [, tick] = useState(0)
  const to = Date.now(), from = to - ranges[range], x = t => Math.max(0, Math.min(1000, (t - from) / (to - from) * 1000))
  // One column for each pixel; its height says how many changes it has.
  const columns = new Map(), dots = []
  for (const c of commits) {
    const t = Date.parse(c.at)
    if (t < from) break
    const col = Math.round(x(t) / 1000 * width)
    c.over ? dots.push(x(t)) : columns.set(col, (columns.get(col) ?? 0) + 1)
  }
  const ticks = [...columns].map(([col, n]) => `M${(col / width * 1000).toFixed(1)} 35V${Math.max(4, 27 - 9 * Math.log2(n)).toFixed(1)}`).join('')
  const at = past ? x(past.time) : 1000
  const timeOf = e => {
    const r = box.current.getBoundingClientRect(), part = Math.max(0, Math.min(1, (e.clientX - r.left) / r.width))
    return part > 0.985 ? undefined : from + part * (to - from)
  }
  const move = t => {
    setPast(t)
    tick(n => n + 1)
  }
  const times = () => [...new Set(commits.map(c => Date.parse(c.at)).filter(t => t > from))].sort((a, b) => a - b)
  const onKeyDown = e => {
    const all = times(), i = past ? all.findLastIndex(t => t <= past.time) : all.length - 1
    const go = { ArrowLeft: () => i > 0 ? all[i - 1] : from, ArrowRight: () => !past || i + 1 >= all.length - 1 ? undefined : all[i + 1], Home: () => from, End: () => undefined, Escape: () => undefined }[e.key]
    if (!go) return
    e.preventDefault()
    move(go())
  }
  const says = past ? `${when(past.time)}` : 'Now'
  const end = range === 'hour' ? clock(from) : age(from, to)
  return <footer class="rail">
    <span class="at"><b>{past ? clock(past.time, range === 'hour') : 'Now'}</b></span>
    <div class="day">
      <div ref={box} class="slide" role="slider" tabIndex="0" aria-label="Look back" aria-valuemin="0" aria-valuemax="1000" aria-valuenow={Math.round(at)} aria-valuetext={says}
        onKeyDown={onKeyDown}
        onPointerDown={e => { if (e.button) return; e.currentTarget.setPointerCapture(e.pointerId); drag.current = true; move(timeOf(e)) }}
        onPointerMove={e => drag.current && move(timeOf(e))} onPointerUp={() => { drag.current = false }} onPointerCancel={() => { drag.current = false }}>
        <svg viewBox="0 0 1000 36" preserveAspectRatio="none" aria-hidden="true">
          <path class="base" d="M0 35.5H1000" /><path class="ticks" d={ticks} />
          {dots.map(d => <path class="dot" d={`M${d} 28v0.01`} />)}
          <path class={past ? 'hand past' : 'hand'} d={`M${at} 0V36`} />
        </svg>
      </div>
      <p aria-hidden="true"><i>{end}</i>{marks(from, to, range, 9).filter(m => x(m[0]) / 1000 * width > 120).map(([t, words]) => <i class="mark" style={{ left: `${x(t) / 10}%` }}>{words}</i>)}<i>now</i></p>
    </div>
    <span class="hint">{thinned ? 'Dots: older moments that the server still knows.' : past ? 'Esc: back to now' : 'drag to look back'}</span>
    <span class="how-far"><Ranges /></span>
  </footer>
}

