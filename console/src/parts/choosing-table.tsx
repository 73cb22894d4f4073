import {
  columnFilteringFeature,
  createColumnHelper,
  createFilteredRowModel,
  createSortedRowModel,
  filterFn_includesString,
  globalFilteringFeature,
  rowSortingFeature,
  sortFn_alphanumeric,
  sortFn_basic,
  tableFeatures,
  useTable,
} from '@tanstack/react-table'
import { useEffect, useId, useMemo, useRef, useState, type ReactNode } from 'react'

const features = tableFeatures({
  rowSortingFeature,
  columnFilteringFeature,
  globalFilteringFeature,
  sortedRowModel: createSortedRowModel(),
  filteredRowModel: createFilteredRowModel(),
  sortFns: { alphanumeric: sortFn_alphanumeric, basic: sortFn_basic },
  filterFns: { includesString: filterFn_includesString },
})

/** One thing that can be chosen; what speaks against it is told and keeps it from being chosen. */
export interface Choosable {
  value: string
  why_not?: string[]
}

export interface Column<T> {
  id: string
  title: ReactNode
  value: (row: T) => string | number | undefined
  show?: (row: T) => ReactNode
  numeric?: boolean
  wrap?: boolean
  extra?: boolean
}

/**
 * Things side by side, of which one or several are chosen. What cannot be had stays visible
 * with its reason; radios and boxes are the browser's own, so that every key works.
 */
export function ChoosingTable<T extends Choosable>({
  label,
  rows,
  columns,
  chosen,
  onChoose,
  several = false,
  sorted,
  tools,
}: {
  label: string
  rows: T[]
  columns: Column<T>[]
  chosen: readonly string[]
  onChoose: (values: string[]) => void
  several?: boolean
  sorted?: string
  tools?: ReactNode
}) {
  const group = useId()
  const [filter, setFilter] = useState('')
  const [sorting, setSorting] = useState(sorted ? [{ id: sorted, desc: false }] : [])
  const made = useMemo(() => {
    const helper = createColumnHelper<typeof features, T>()
    return helper.columns(
      columns.map((c) =>
        helper.accessor((row: T) => c.value(row), {
          id: c.id,
          sortFn: c.numeric ? 'basic' : 'alphanumeric',
          sortUndefined: 'last',
          filterFn: 'includesString',
        }),
      ),
    )
  }, [columns])
  const table = useTable({
    features,
    columns: made,
    data: rows,
    getRowId: (row: T) => row.value,
    enableSortingRemoval: false,
    state: { globalFilter: filter, sorting },
    onGlobalFilterChange: (next) => setFilter(next),
    onSortingChange: (next) => setSorting(next),
    globalFilterFn: 'includesString',
    getColumnCanGlobalFilter: () => true,
  })
  const shown = table.getRowModel().rows
  // What fits comes first, whatever the order within.
  const ordered = [
    ...shown.filter((r) => !r.original.why_not?.length),
    ...shown.filter((r) => r.original.why_not?.length),
  ]
  const pick = (value: string) =>
    onChoose(several ? (chosen.includes(value) ? chosen.filter((v) => v !== value) : [...chosen, value]) : [value])
  // What is chosen is in sight when the table is first shown, however long it is.
  const body = useRef<HTMLDivElement>(null)
  useEffect(() => {
    const row = body.current?.querySelector<HTMLElement>('[data-chosen]')
    if (body.current && row) body.current.scrollTop = Math.max(0, row.offsetTop - body.current.clientHeight / 2)
  }, [rows.length])
  return (
    <div className="min-w-0">
      {(rows.length > 8 || tools) && (
        <div className="mb-1.5 flex flex-wrap items-center justify-end gap-3 text-small text-ink-2">
          {rows.length > 8 && (
            <label className="mr-auto flex items-center gap-2">
              Find{' '}
              <input
                value={filter}
                onChange={(e) => setFilter(e.target.value)}
                className="w-32 rounded-[6px] border border-line bg-paper px-2 py-0.5 text-ink"
              />{' '}
              <span aria-live="polite">
                {shown.length} of {rows.length}
              </span>
            </label>
          )}
          {tools}
        </div>
      )}
      <div ref={body} className="relative max-h-[296px] overflow-auto" tabIndex={0} role="group" aria-label={label}>
        <table className="w-full">
          <thead className="sticky top-0 bg-sheet">
            <tr>
              {columns.map((c) => {
                const at = sorting[0]?.id === c.id ? (sorting[0].desc ? 'descending' : 'ascending') : 'none'
                return (
                  <th
                    key={c.id}
                    aria-sort={at}
                    className={`px-1.5 ${c.numeric ? 'text-right' : ''} ${c.extra ? 'max-lg:hidden' : ''}`}
                  >
                    <button
                      type="button"
                      className="font-semibold hover:text-ink"
                      onClick={() => setSorting([{ id: c.id, desc: at === 'ascending' }])}
                    >
                      {c.title}
                      {at !== 'none' && <span aria-hidden="true"> {at === 'ascending' ? '▴' : '▾'}</span>}
                    </button>
                  </th>
                )
              })}
            </tr>
          </thead>
          <tbody>
            {ordered.map(({ original: row }) => {
              const on = chosen.includes(row.value)
              const barred = !!row.why_not?.length
              return [
                <tr
                  key={row.value}
                  data-chosen={on || undefined}
                  className={`${on ? 'bg-accent-soft font-semibold' : ''} ${barred && !on ? 'text-ink-2' : 'cursor-pointer hover:bg-accent-soft'}`}
                  onClick={(e) => {
                    if ((!barred || on) && !(e.target instanceof HTMLInputElement)) pick(row.value)
                  }}
                >
                  {columns.map((c, i) => (
                    <td
                      key={c.id}
                      className={`px-1.5 ${c.numeric ? 'text-right' : ''} ${c.wrap ? 'whitespace-normal' : ''} ${c.extra ? 'max-lg:hidden' : ''}`}
                    >
                      {i === 0 ? (
                        <label className="flex items-center gap-2">
                          <input
                            type={several ? 'checkbox' : 'radio'}
                            name={group}
                            value={row.value}
                            checked={on}
                            disabled={barred && !on}
                            onChange={() => pick(row.value)}
                            className="accent-[var(--accent)]"
                            aria-label={row.value}
                          />
                          {c.show ? c.show(row) : c.value(row)}
                        </label>
                      ) : c.show ? (
                        c.show(row)
                      ) : (
                        (c.value(row) ?? '–')
                      )}
                    </td>
                  ))}
                </tr>,
                // Why not stands below, where it has the whole width.
                barred && (
                  <tr key={`${row.value}-not`} className={`border-t-0! ${on ? 'bg-accent-soft' : ''}`}>
                    <td
                      colSpan={columns.length}
                      className="h-auto! pt-0 pr-2 pb-1.5 pl-7 text-small whitespace-normal text-ink-2"
                      style={{ color: on ? 'var(--bad)' : undefined }}
                    >
                      {row.why_not?.join('; ')}
                    </td>
                  </tr>
                ),
              ]
            })}
          </tbody>
        </table>
        {ordered.length === 0 && (
          <p className="px-2 py-3 text-ink-2">
            {rows.length === 0 ? 'There is nothing to choose from here.' : 'Nothing has these words.'}
          </p>
        )}
      </div>
    </div>
  )
}
