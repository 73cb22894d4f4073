import type { Run, Step } from '../api/client'
import { toneColor } from './state'
import { clock } from './words'

const ROW = 21
const TOP = 30
const BAR = 11

/** Where each step was, is or will be, in milliseconds. */
interface Bar { step: Step; from: number; made: number; to: number; future: boolean }

/** Expected times of what has not begun follow from what it needs. */
export function bars(run: Run, now: number): Bar[] {
  const start = new Date(run.started_at ?? run.created_at).getTime()
  const done: Bar[] = []
  const byNumber = new Map<number, Bar>()
  const place = (step: Step): Bar => {
    const known = byNumber.get(step.number)
    if (known) return known
    const expect = step.expect_seconds * 1000
    const bar: Bar = { step, from: 0, made: 0, to: 0, future: !step.began_at }
    byNumber.set(step.number, bar)
    if (step.began_at) {
      bar.from = new Date(step.began_at).getTime()
      bar.to = step.ended_at ? new Date(step.ended_at).getTime() : Math.max(now, bar.from + expect)
      bar.made = step.made_at ? new Date(step.made_at).getTime() : step.ended_at ? bar.to : now
    } else {
      const needs = step.needs.map((n) => run.steps?.find((s) => s.number === n)).filter((s) => s !== undefined)
      bar.from = Math.max(run.ended_at ? start : now, start, ...needs.map((s) => place(s).to))
      bar.made = bar.to = bar.from + expect
    }
    return bar
  }
  for (const step of run.steps ?? []) done.push(place(step))
  return done
}

/** Time from left to right: solid while working, lighter while settling, an outline for what is still to come. */
export function Timeline({ run, now, selected, onSelect }: { run: Run; now: number; selected: string | null; onSelect: (resource: string) => void }) {
  const all = bars(run, now).filter((b) => !(run.ended_at && b.future))
  const left = new Date(run.started_at ?? run.created_at).getTime()
  const right = Math.max(left + 1000, ...all.map((b) => b.to), run.ended_at ? 0 : now)
  const labels = Math.min(190, Math.max(70, ...all.map((b) => b.step.resource.length * 7 + 14)))
  const width = 460
  const x = (at: number) => labels + ((at - left) / (right - left)) * (width - labels - 14)
  const height = TOP + all.length * ROW + 18
  const ticks = [0.05, 0.35, 0.65, 0.95].map((f) => left + f * (right - left))
  return (
    <svg role="group" aria-label="Time of each step" viewBox={`0 0 ${width} ${height}`} className="block w-full" style={{ maxHeight: Math.max(height * 1.25, 160) }}>
      {ticks.map((t) => (
        <g key={t}>
          <line x1={x(t)} x2={x(t)} y1={TOP - 6} y2={height - 16} stroke="var(--line)" />
          <text x={x(t)} y={TOP - 14} fontSize="10.5" textAnchor="middle" fill="var(--ink-2)">{clock(t)}</text>
        </g>
      ))}
      {all.map((b, i) => {
        const y = TOP + i * ROW
        const color = toneColor(b.step.state)
        const open = !b.step.ended_at && !b.future
        return (
          <g key={b.step.number} onClick={() => onSelect(b.step.resource)} style={{ cursor: 'pointer' }}>
            <rect x="0" y={y - 2} width={width} height={ROW - 1} rx="4" fill={selected === b.step.resource ? 'var(--accent-soft)' : 'transparent'} />
            <text x={labels - 9} y={y + 11} fontSize="12" textAnchor="end" fill="var(--ink)" fontWeight={selected === b.step.resource ? 600 : 400}>{b.step.resource}</text>
            {b.future ? (
              <Outline from={x(b.from)} to={x(b.to)} y={y + 2} critical={b.step.critical} />
            ) : (
              <>
                <rect x={x(b.from)} y={y + 2} width={Math.max(2.5, x(Math.min(b.made, open ? now : b.to)) - x(b.from))} height={BAR} rx="3" fill={color} />
                {b.to > b.made && <rect x={x(b.made)} y={y + 2} width={Math.max(0, x(open ? now : b.to) - x(b.made))} height={BAR} rx="3" fill={color} opacity=".35" />}
                {open && b.to > now && <Outline from={x(now)} to={x(b.to)} y={y + 2} critical={b.step.critical} />}
              </>
            )}
            {b.step.critical && <line x1={x(b.from)} x2={x(b.to)} y1={y + BAR + 4.5} y2={y + BAR + 4.5} stroke="var(--path)" strokeWidth="2" />}
          </g>
        )
      })}
      {!run.ended_at && (
        <g>
          <line x1={x(now)} x2={x(now)} y1={TOP - 6} y2={height - 16} stroke="var(--accent)" strokeWidth="1.5" />
          <text x={x(now)} y={height - 4} fontSize="11" fontWeight="600" textAnchor="middle" fill="var(--accent)">now</text>
        </g>
      )}
    </svg>
  )
}

function Outline({ from, to, y, critical }: { from: number; to: number; y: number; critical: boolean }) {
  return <rect x={from} y={y} width={Math.max(2, to - from)} height={BAR} rx="3" fill="none" stroke={critical ? 'var(--path)' : 'var(--ink-2)'} strokeDasharray="3 2" />
}
