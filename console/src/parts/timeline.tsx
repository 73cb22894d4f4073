import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef } from 'react'
import type { Run, Step } from '../api/client'
import { StateMark, toneColor } from './state'
import { clock, span } from './words'

const ROW = 22

/** Where each step was, is or will be, in milliseconds. */
interface Bar {
  step: Step
  from: number
  made: number
  to: number
  future: boolean
}

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
      for (const n of step.needs) {
        const need = steps.get(n)
        if (need) bar.from = Math.max(bar.from, place(need).to)
      }
      bar.made = bar.to = bar.from + expect
    }
    return bar
  }
  return (run.steps ?? []).map(place)
}

/**
 * Where a moment stands on the axis, from 0 to 1, and which moment stands there. Hours in which a run lay idle
 * between two attempts are cut out.
 */
interface Axis {
  place: (t: number) => number
  time: (f: number) => number
  breaks: { at: number; idle: number }[]
}

function axisOf(run: Run, all: Bar[], now: number): Axis {
  const left = new Date(run.started_at ?? run.created_at).getTime()
  const right = all.reduce((most, b) => Math.max(most, b.to), Math.max(left + 1000, run.ended_at ? 0 : now))
  const list = run.attempts ?? []
  const breaks = list
    .slice(1)
    .flatMap((a, i) => {
      const ended = list[i]!.ended_at
      if (!ended || !a.began_at) return []
      const from = new Date(ended).getTime()
      return [{ at: from, idle: Math.max(0, new Date(a.began_at).getTime() - from) }]
    })
    .filter((b) => b.idle > 0)
  const cut = (t: number) => breaks.reduce((sum, b) => sum + Math.min(b.idle, Math.max(0, t - b.at)), 0)
  const whole = right - left - cut(right)
  return {
    breaks,
    place: (t) => (t - left - cut(t)) / whole,
    time: (f) => breaks.reduce((t, b) => (t > b.at ? t + b.idle : t), left + f * whole),
  }
}

/** When earlier attempts had the steps that a later one tried again. */
function triedOf(run: Run): Map<number, { from: number; to: number; state: string }[]> {
  const out = new Map<number, { from: number; to: number; state: string }[]>()
  for (const a of run.attempts ?? []) {
    for (const s of a.steps) {
      if (!s.began_at) continue
      const to = s.ended_at ?? a.ended_at
      out.set(s.number, [
        ...(out.get(s.number) ?? []),
        {
          from: new Date(s.began_at).getTime(),
          to: to ? new Date(to).getTime() : new Date(s.began_at).getTime(),
          state: s.state,
        },
      ])
    }
  }
  return out
}

/** Time from left to right: solid while working, lighter while settling, an outline for what is still to come. */
export function Timeline({
  run,
  now,
  selected,
  onSelect,
}: {
  run: Run
  now: number
  selected: string | null
  onSelect: (resource: string) => void
}) {
  const all = useMemo(() => bars(run, now).filter((b) => !(run.ended_at && b.future)), [run, now])
  const axis = useMemo(() => axisOf(run, all, now), [run, all, now])
  const at = (t: number) => `${axis.place(t) * 100}%`
  const width = (from: number, to: number) => `max(3px, ${(axis.place(to) - axis.place(from)) * 100}%)`
  const tried = useMemo(() => triedOf(run), [run])
  const box = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: all.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 10,
  })
  const first = all.findIndex((b) => b.step.resource === selected)
  const many = all.length > 8
  useEffect(() => {
    if (many && first >= 0) rows.scrollToIndex(first, { align: 'auto' })
  }, [first, many, rows])
  const ticks = [0.02, 0.34, 0.66, 0.98].map(axis.time)
  return (
    <div className="flex h-full flex-col">
      <div className="relative ml-[34%] h-5 flex-none text-[11px] text-ink-2" aria-hidden="true">
        {ticks.map((t, i) => (
          <span
            key={i}
            className="absolute whitespace-nowrap"
            style={{ left: at(t), transform: `translateX(${i === 0 ? '0' : i === 3 ? '-100%' : '-50%'})` }}
          >
            {clock(t)}
          </span>
        ))}
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-auto" tabIndex={0} role="group" aria-label="Time of each step">
        <div className="relative" style={{ height: rows.getTotalSize() }}>
          {!run.ended_at && (
            <div aria-hidden="true" className="absolute top-0 bottom-0 z-10 ml-[34%] w-[66%]">
              <div
                className="absolute top-0 bottom-0 border-l-[1.5px] border-accent"
                style={{ left: at(now) }}
                title="now"
              />
            </div>
          )}
          {axis.breaks.map((b) => (
            <div key={b.at} aria-hidden="true" className="absolute top-0 bottom-0 z-10 ml-[34%] w-[66%]">
              <div
                className="absolute top-0 bottom-0 border-l border-dashed border-ink-2"
                style={{ left: at(b.at) }}
                title={`lay idle for ${span(b.idle / 1000)}, which is cut out`}
              />
            </div>
          ))}
          {rows.getVirtualItems().map((item) => {
            const b = all[item.index]!
            const color = toneColor(b.step.state)
            const open = !b.step.ended_at && !b.future
            const solidTo = Math.min(b.made, open ? now : b.to)
            return (
              <button
                key={b.step.number}
                type="button"
                onClick={() => onSelect(b.step.resource)}
                aria-pressed={selected === b.step.resource}
                className={`absolute left-0 flex w-full items-center rounded-[4px] text-left ${selected === b.step.resource ? 'bg-accent-soft font-semibold' : ''}`}
                style={{ top: item.start, height: ROW - 1 }}
              >
                <span className="flex w-[34%] items-center gap-1.5 pr-2 pl-1 text-small">
                  <StateMark state={b.step.state} size={11} />
                  <span className="min-w-0 truncate" title={b.step.resource}>
                    {b.step.resource}
                  </span>
                  <span className="sr-only">, {b.step.state}</span>
                </span>
                <span className="relative h-[11px] w-[66%]" aria-hidden="true">
                  {(tried.get(b.step.number) ?? []).map((t) => (
                    <span
                      key={t.from}
                      className="absolute h-full rounded-[3px] opacity-60"
                      style={{ left: at(t.from), width: width(t.from, t.to), background: toneColor(t.state) }}
                      title={`an earlier attempt ${t.state}`}
                    />
                  ))}
                  {b.future ? (
                    <Outline left={at(b.from)} width={width(b.from, b.to)} critical={b.step.critical} />
                  ) : (
                    <>
                      <span
                        className="absolute h-full rounded-[3px]"
                        style={{ left: at(b.from), width: width(b.from, solidTo), background: color }}
                      />
                      {(open ? now : b.to) > b.made && (
                        <span
                          className="absolute h-full rounded-[3px] opacity-40"
                          style={{ left: at(b.made), width: width(b.made, open ? now : b.to), background: color }}
                        />
                      )}
                      {open && b.to > now && (
                        <Outline left={at(now)} width={width(now, b.to)} critical={b.step.critical} />
                      )}
                    </>
                  )}
                  {b.step.critical && (
                    <span
                      className="absolute -bottom-[3px] h-[2px] bg-path"
                      style={{ left: at(b.from), width: width(b.from, b.to) }}
                    />
                  )}
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
  return (
    <span
      className="absolute h-full rounded-[3px] border border-dashed"
      style={{ left, width, borderColor: critical ? 'var(--path)' : 'var(--ink-2)' }}
    />
  )
}
