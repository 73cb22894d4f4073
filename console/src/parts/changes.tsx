import { useVirtualizer } from '@tanstack/react-virtual'
import { useMemo, useRef, useState, type ReactNode } from 'react'
import type { Schemas } from '../api/client'
import { StateMark } from './state'
import { Sheet } from './ui'
import { valueText } from './words'

type Change = Schemas['Change']

/** The mark of a change: the shapes of states, so that one set is learned. */
export const changeState: Record<string, string> = {
  create: 'waiting',
  alter: 'settling',
  rebuild: 'missing',
  remove: 'removed',
  keep: 'kept',
  same: 'healthy',
}

const order = ['remove', 'rebuild', 'alter', 'create', 'keep', 'same']
const words: Record<string, string> = {
  remove: 'Removed',
  rebuild: 'Rebuilt',
  alter: 'Altered',
  create: 'Created',
  keep: 'Kept',
  same: 'Stay as they are',
}

type Row = { kind: 'group'; change: string; count: number } | { kind: 'change'; c: Change }

/** Changes by what happens, foldable and searched; of what stays the same only the number, until it is asked for. */
export function Changes({ changes, lines }: { changes: Change[]; lines: Schemas['Line'][] }) {
  const [search, setSearch] = useState('')
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set(['same']))
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set())
  const price = useMemo(() => new Map(lines.map((l) => [l.resource, l])), [lines])
  const rows = useMemo<Row[]>(() => {
    const asked = search.toLowerCase()
    const hits = changes.filter(
      (c) => !asked || `${c.resource} ${c.type} ${c.change} ${c.reason ?? ''}`.toLowerCase().includes(asked),
    )
    return order.flatMap((change) => {
      const of = hits.filter((c) => c.change === change)
      if (of.length === 0) return []
      return [
        { kind: 'group' as const, change, count: of.length },
        ...(folded.has(change) && !asked ? [] : of.map((c) => ({ kind: 'change' as const, c }))),
      ]
    })
  }, [changes, folded, search])
  const toggle = (set: ReadonlySet<string>, key: string) => {
    const next = new Set(set)
    if (!next.delete(key)) next.add(key)
    return next
  }
  const box = useRef<HTMLDivElement>(null)
  const many = rows.length > 60
  const virtual = useVirtualizer({
    count: many ? rows.length : 0,
    getScrollElement: () => box.current,
    estimateSize: () => 32,
    overscan: 12,
    getItemKey: (i) => {
      const r = rows[i]!
      return r.kind === 'group' ? `group ${r.change}` : r.c.resource
    },
  })
  const draw = (r: Row) =>
    r.kind === 'group' ? (
      <GroupRow
        change={r.change}
        count={r.count}
        open={!folded.has(r.change) || !!search}
        onToggle={() => setFolded(toggle(folded, r.change))}
      />
    ) : (
      <ChangeRow
        c={r.c}
        line={price.get(r.c.resource)}
        open={open.has(r.c.resource)}
        onToggle={() => setOpen(toggle(open, r.c.resource))}
      />
    )
  return (
    <Sheet
      title="Changes"
      pad={false}
      note={
        <label className="flex items-center gap-2">
          Find{' '}
          <input
            type="search"
            value={search}
            onChange={(e) => setSearch(e.target.value)}
            className="w-40 rounded-[6px] border border-line bg-paper px-2 text-ink"
          />
        </label>
      }
    >
      <div
        ref={box}
        role="list"
        aria-label="Changes"
        tabIndex={many ? 0 : undefined}
        className={many ? 'max-h-[62vh] overflow-auto' : undefined}
      >
        {many ? (
          <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
            {virtual.getVirtualItems().map((item) => (
              <div
                key={item.key}
                data-index={item.index}
                ref={virtual.measureElement}
                role="listitem"
                className="absolute top-0 left-0 w-full border-t border-line"
                style={{ transform: `translateY(${item.start}px)` }}
              >
                {draw(rows[item.index]!)}
              </div>
            ))}
          </div>
        ) : (
          rows.map((r) => (
            <div
              key={r.kind === 'group' ? `group ${r.change}` : r.c.resource}
              role="listitem"
              className="border-t border-line first:border-t-0"
            >
              {draw(r)}
            </div>
          ))
        )}
        {rows.length === 0 && (
          <div role="listitem" className="px-3.5 py-3 text-ink-2">
            {changes.length === 0 ? 'Nothing changes.' : 'No change has these words.'}
          </div>
        )}
      </div>
    </Sheet>
  )
}

function GroupRow({
  change,
  count,
  open,
  onToggle,
}: {
  change: string
  count: number
  open: boolean
  onToggle: () => void
}) {
  const heavy = change === 'remove' || change === 'rebuild'
  return (
    <button
      type="button"
      aria-expanded={open}
      onClick={onToggle}
      className={`flex h-[31px] w-full items-center gap-2 bg-paper px-3.5 text-left text-small font-semibold ${heavy ? 'text-bad' : 'text-ink-2'}`}
    >
      <span aria-hidden="true" className="w-3">
        {open ? '▾' : '▸'}
      </span>
      {words[change] ?? change} <span className="font-normal">{count}</span>
    </button>
  )
}

function ChangeRow({
  c,
  line,
  open,
  onToggle,
}: {
  c: Change
  line?: Schemas['Line']
  open: boolean
  onToggle: () => void
}) {
  const brief =
    c.reason ??
    (c.change === 'create'
      ? [
          line?.about,
          ...(c.fields ?? []).filter((f) => !line || (f.name !== 'size' && f.name !== 'public')).map(inBrief),
        ]
          .filter(Boolean)
          .join(', ')
      : c.fields?.map((f) => `${f.name}: ${valueText(f.before)} to ${valueText(f.after)}`).join('; ')) ??
    line?.about ??
    ''
  return (
    <div className={c.change === 'same' ? 'text-ink-2' : undefined}>
      <button
        type="button"
        aria-expanded={open}
        onClick={onToggle}
        className="grid h-[31px] w-full grid-cols-[16px_minmax(90px,2fr)_minmax(0,5fr)_56px] items-center gap-2.5 px-3.5 text-left hover:bg-accent-soft"
      >
        <StateMark state={changeState[c.change] ?? 'waiting'} />
        <span className="truncate font-semibold" title={c.resource}>
          {c.resource} <span className="font-normal text-ink-2">{c.type}</span>
        </span>
        <span className="truncate text-small">
          {c.loses && <span className="mr-2 font-semibold text-bad">its data is lost</span>}
          {c.takes_over && <span className="mr-2">takes over {c.takes_over}</span>}
          {brief}
          {c.notes?.length ? <span className="ml-2 text-ink-2">{c.notes.join('; ')}</span> : null}
        </span>
        <span className="text-right text-small">{line ? line.hour.toFixed(4) : ''}</span>
      </button>
      {open && <Detail c={c} line={line} />}
    </div>
  )
}

/** All of one change: before and after, or, of what is made, what it will be. */
function Detail({ c, line }: { c: Change; line?: Schemas['Line'] }) {
  const made = c.change === 'create' || c.change === 'keep'
  return (
    <div className="space-y-2 px-3.5 pb-3 pl-[42px]">
      {c.reason && <p>{c.reason}</p>}
      {c.notes?.map((n) => (
        <p key={n} className="text-ink-2">
          {n}
        </p>
      ))}
      {c.after.length > 0 && (
        <p className="text-small text-ink-2">
          after {c.after.map((a) => `${a.name}${a.gate && a.gate !== 'healthy' ? ` (${a.gate})` : ''}`).join(', ')}
        </p>
      )}
      {line && (
        <p className="text-small text-ink-2">
          {line.about}, {line.hour.toFixed(4)} an hour
        </p>
      )}
      {c.fields && c.fields.length > 0 && (
        <dl className="space-y-1.5">
          {c.fields.map((f) => (
            <div key={f.name} className="grid gap-x-4 md:grid-cols-[150px_minmax(0,1fr)]">
              <dt className="font-semibold">
                {f.name}
                {!made && (
                  <span
                    className="block text-small font-normal"
                    style={{ color: f.alter === 'rebuild' ? 'var(--bad)' : 'var(--ink-2)' }}
                  >
                    {f.alter}
                  </span>
                )}
              </dt>
              <dd className="min-w-0">
                {made ? (
                  <Value of={f.after} />
                ) : (
                  <div className="grid gap-x-4 md:grid-cols-2">
                    <div className="min-w-0">
                      <span className="text-small text-ink-2">before</span>
                      <Value of={f.before} />
                    </div>
                    <div className="min-w-0">
                      <span className="text-small text-ink-2">after</span>
                      <Value of={f.after} />
                    </div>
                  </div>
                )}
              </dd>
            </div>
          ))}
        </dl>
      )}
    </div>
  )
}

/** What is worth a word of a value of something that is made: not its name, nor what waits. */
function inBrief(f: Schemas['Field']): string {
  const v = f.after
  if (
    f.name === 'name' ||
    f.name === 'tags' ||
    f.name === 'user_data' ||
    (typeof v === 'object' && v !== null && 'pending' in v)
  )
    return ''
  if (Array.isArray(v))
    return v.every((x) => typeof x === 'string')
      ? `${f.name} ${v.join(' ')}`
      : isMap(v[0])
        ? `${v.length} ${f.name}`
        : ''
  return isMap(v) ? '' : `${f.name} ${valueText(v)}`
}

const isMap = (v: unknown): v is Record<string, unknown> =>
  typeof v === 'object' && v !== null && !Array.isArray(v) && !('pending' in v)

/** A value as a person reads it: rows of like things as a table, long texts whole. */
function Value({ of: v }: { of: unknown }): ReactNode {
  if (Array.isArray(v) && v.length > 0 && v.every(isMap)) {
    const keys = [...new Set(v.flatMap((x) => Object.keys(x)))]
    return (
      <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="rows">
        <table className="text-small">
          <thead>
            <tr>
              {keys.map((k) => (
                <th key={k} className="h-6 pr-4 pl-0">
                  {k}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {v.map((x, i) => (
              <tr key={i}>
                {keys.map((k) => (
                  <td key={k} className="h-6 pr-4 pl-0 font-mono">
                    {valueText(x[k])}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    )
  }
  if (Array.isArray(v))
    return <span className="font-mono text-small [overflow-wrap:anywhere]">{v.map(valueText).join(', ') || '–'}</span>
  if (isMap(v))
    return (
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4">
        {Object.entries(v).map(([k, x]) => (
          <div key={k} className="contents">
            <dt className="text-small text-ink-2">{k}</dt>
            <dd className="min-w-0">
              <Value of={x} />
            </dd>
          </div>
        ))}
      </dl>
    )
  const text = valueText(v)
  if (text.includes('\n')) return <pre className="overflow-x-auto font-mono text-small whitespace-pre-wrap">{text}</pre>
  return <span className="font-mono text-small [overflow-wrap:anywhere]">{text}</span>
}
