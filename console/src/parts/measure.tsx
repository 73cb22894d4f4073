import { useMemo, useState, type ReactNode } from 'react'
import type { Column } from './choosing-table'

/** One way to compare things: less is better. */
export interface Measure<T> {
  words: string
  title: string
  of: (row: T) => number | undefined
  text: (value: number) => string
}

/** A column that compares by a measure, and the control that says which and changes it. */
export function useMeasure<T>(
  measures: readonly Measure<T>[],
  rows: readonly T[],
): { column: Column<T>; tools: ReactNode } {
  const [chosen, setChosen] = useState(0)
  const by = measures[Math.min(chosen, measures.length - 1)]!
  const column = useMemo<Column<T>>(() => {
    const most = Math.max(...rows.map((r) => by.of(r) ?? 0), 1e-9)
    return {
      id: 'measure',
      title: by.title,
      numeric: true,
      value: (r) => by.of(r),
      show: (r) => {
        const value = by.of(r)
        if (value === undefined) return '–'
        const width = Math.max(2, (value / most) * 52)
        return (
          <svg width="52" height="8" role="img" aria-label={by.text(value)} className="inline-block">
            <rect x={52 - width} width={width} height="8" rx="2" fill="var(--accent)">
              <title>{by.text(value)}</title>
            </rect>
          </svg>
        )
      },
    }
  }, [by, rows])
  const tools = (
    <label>
      compared by{' '}
      <select
        value={chosen}
        onChange={(e) => setChosen(Number(e.target.value))}
        className="rounded-[6px] border border-line bg-paper px-1.5 py-0.5 text-ink"
      >
        {measures.map((m, i) => (
          <option key={m.words} value={i}>
            {m.words}
          </option>
        ))}
      </select>
    </label>
  )
  return { column, tools }
}
