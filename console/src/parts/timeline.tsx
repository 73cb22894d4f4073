import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef } from 'react'
import type { Run, Step } from '../api/client'
import { StateMark, toneColor } from './state'
import { clock } from './words'

const ROW = 22

/** Where each step was, is or will be, in milliseconds. */
interface Bar { step: Step; from: number; made: number; to: number; future: boolean }

/** Expected times of what has not begun follow from what it needs. */
function bars(run: Run, now: number): Bar[] {
  const start = new Date(run.started_at ?? run.created_at).getTime()
  const steps = new Map((run.steps ?? []).map((s) => [s.number, s]))
  const placed = new Map<number, Bar>()
  const place = (step: Step): Bar => {
    const known = placed.get(step.number)
    if (known) return known
    const expect = step.expect_seconds * 1000
    const bar: Bar = { step, from: 0, made: 0, to: 0, future: !step.began_at }
    placed.set(step.number, bar)
    if (step.began_at) {
      bar.from = new Date(step.began_at).getTime()
      bar.to = step.ended_at ? new Date(step.ended_at).getTime() : Math.max(now, bar.from + expect)
      bar.made = step.made_at ? new Date(step.made_at).getTime() : step.ended_at ? bar.to : now
    } else {
      bar.from = run.ended_at ? start : Math.max(now, start)
      for (const n of step.needs) { const need = steps.get(n); if (need) bar.from = Math.max(bar.from, place(need).to) }
      bar.made = bar.to = bar.from + expect
    }
    return bar
  }
  return (run.steps ?? []).map(place)
}

/** Time from left to right: solid while working, lighter while settling, an outline for what is still to come. */
export function Timeline({ run, now, selected, onSelect }: { run: Run; now: number; selected: string | null; onSelect: (resource: string) => void }) {
  const all = useMemo(() => bars(run, now).filter((b) => !(run.ended_at && b.future)), [run, now])
  const left = new Date(run.started_at ?? run.created_at).getTime()
  const right = all.reduce((most, b) => Math.max(most, b.to), Math.max(left + 1000, run.ended_at ? 0 : now))
  const at = (t: number) => `${((t - left) / (right - left)) * 100}%`
  const width = (from: number, to: number) => `max(3px, ${((to - from) / (right - left)) * 100}%)`
  const box = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({ count: all.length, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 10 })
  const first = all.findIndex((b) => b.step.resource === selected)
  const many = all.length > 8
  useEffect(() => { if (many && first >= 0) rows.scrollToIndex(first, { align: 'auto' }) }, [first, many, rows])
  const ticks = [0.02, 0.34, 0.66, 0.98].map((f) => left + f * (right - left))
  return (
    <div className="flex h-full flex-col">
      <div className="relative ml-[34%] h-5 flex-none text-[11px] text-ink-2" aria-hidden="true">
        {ticks.map((t, i) => <span key={i} className="absolute whitespace-nowrap" style={{ left: at(t), transform: `translateX(${i === 0 ? '0' : i === 3 ? '-100%' : '-50%'})` }}>{clock(t)}</span>)}
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-auto" tabIndex={0} role="group" aria-label="Time of each step">
        <div className="relative" style={{ height: rows.getTotalSize() }}>
          {!run.ended_at && <div aria-hidden="true" className="absolute top-0 bottom-0 z-10 ml-[34%] w-[66%]"><div className="absolute top-0 bottom-0 border-l-[1.5px] border-accent" style={{ left: at(now) }} title="now" /></div>}
          {rows.getVirtualItems().map((item) => {
            const b = all[item.index]!
            const color = toneColor(b.step.state)
            const open = !b.step.ended_at && !b.future
            const solidTo = Math.min(b.made, open ? now : b.to)
            return (
              <button
                key={b.step.number} type="button" onClick={() => onSelect(b.step.resource)} aria-pressed={selected === b.step.resource}
                className={`absolute left-0 flex w-full items-center rounded-[4px] text-left ${selected === b.step.resource ? 'bg-accent-soft font-semibold' : ''}`} style={{ top: item.start, height: ROW - 1 }}
              >
                <span className="flex w-[34%] items-center gap-1.5 pr-2 pl-1 text-small"><StateMark state={b.step.state} size={11} /><span className="min-w-0 truncate" title={b.step.resource}>{b.step.resource}</span><span className="sr-only">, {b.step.state}</span></span>
                <span className="relative h-[11px] w-[66%]" aria-hidden="true">
                  {b.future ? <Outline left={at(b.from)} width={width(b.from, b.to)} critical={b.step.critical} /> : (
                    <>
                      <span className="absolute h-full rounded-[3px]" style={{ left: at(b.from), width: width(b.from, solidTo), background: color }} />
                      {(open ? now : b.to) > b.made && <span className="absolute h-full rounded-[3px] opacity-40" style={{ left: at(b.made), width: width(b.made, open ? now : b.to), background: color }} />}
                      {open && b.to > now && <Outline left={at(now)} width={width(now, b.to)} critical={b.step.critical} />}
                    </>
                  )}
                  {b.step.critical && <span className="absolute -bottom-[3px] h-[2px] bg-path" style={{ left: at(b.from), width: width(b.from, b.to) }} />}
                </span>
              </button>
            )
          })}
        </div>
      </div>
    </div>
  )
}

function Outline({ left, width, critical }: { left: string; width: string; critical: boolean }) {
  return <span className="absolute h-full rounded-[3px] border border-dashed" style={{ left, width, borderColor: critical ? 'var(--path)' : 'var(--ink-2)' }} />
}
