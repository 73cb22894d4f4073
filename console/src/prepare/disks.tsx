import { useMemo } from 'react'
import type { Schemas } from '../api/client'
import { ChoosingTable, type Column } from '../parts/choosing-table'
import { useMeasure, type Measure } from '../parts/measure'
import { piece } from '../parts/script'
import { gib, price } from '../parts/words'
import type { Choosing } from './sizes'

const Plot = piece(() => import('../parts/plot'), 'The plot')

type Option = Schemas['Option']
type Disks = Schemas['Disks']
type Usable = Schemas['Answer']['usable'][number]

/** By what disk types can be compared: a price for something that a TiB of them gives. */
const measures = (currency: string): Measure<Option>[] => {
  const priced = (per: string, of: (o: Option) => number | undefined): Measure<Option> => ({
    words: `price for ${per}`,
    title: `for ${per}`,
    of: (o) => {
      const n = of(o)
      return o.month && n ? o.month / n : undefined
    },
    text: (v) => `${v.toFixed(2)} ${currency} a month for ${per}`,
  })
  return [
    priced('a TiB', () => 1),
    priced('100 MB/s', (o) => o.mbps && o.mbps / 100),
    priced('1,000 op/s', (o) => o.ops && o.ops / 1000),
  ]
}

/** Disk types side by side, and what the chosen one reaches as it grows. */
export function DiskTypes({ label, options, value, currency, onChange }: Choosing) {
  const ways = useMemo(() => measures(currency), [currency])
  const { column, tools } = useMeasure(ways, options)
  const columns = useMemo<Column<Option>[]>(
    () => [
      { id: 'name', title: 'Disk type', value: (o) => o.value },
      { id: 'for', title: 'Good for', value: (o) => o.disk_type?.for?.join(', '), wrap: true },
      {
        id: 'month',
        title: `${currency}, TiB month`,
        numeric: true,
        value: (o) => o.month,
        show: (o) => price(o.month, 0),
      },
      column,
      {
        id: 'mbps',
        title: 'MB/s',
        numeric: true,
        value: (o) => o.mbps && Math.round(o.mbps),
        show: (o) => <span title="of 1 TiB">{o.mbps ? Math.round(o.mbps) : '–'}</span>,
      },
      {
        id: 'ops',
        title: 'op/s',
        numeric: true,
        extra: true,
        value: (o) => o.ops && Math.round(o.ops),
        show: (o) => <span title="operations a second of 1 TiB">{o.ops ? Math.round(o.ops) : '–'}</span>,
      },
      {
        id: 'most',
        title: 'Up to',
        numeric: true,
        value: (o) => o.disk_type?.max_bytes,
        show: (o) =>
          o.disk_type && <span title={`from ${gib(o.disk_type.min_bytes)}`}>{gib(o.disk_type.max_bytes)}</span>,
      },
    ],
    [currency, column],
  )
  const reached = options.find((o) => o.value === value)?.reaches ?? []
  return (
    <>
      <ChoosingTable
        label={label}
        rows={options}
        columns={columns}
        chosen={value ? [value] : []}
        onChoose={(v) => onChange(v[0] ?? '')}
        sorted="measure"
        tools={tools}
      />
      {reached.length > 1 && (
        <details className="mt-2 rounded-[6px] border border-line px-2.5 py-1.5">
          <summary className="cursor-pointer text-small">
            How fast {value} is by its size:{' '}
            {[reached[0]!, ...(reached.length > 2 ? [reached[reached.length >> 1]!] : []), reached.at(-1)!]
              .map((r) => `${Math.round(r.mbps)} MB/s at ${gib(r.bytes)}`)
              .join(', ')}
          </summary>
          <Growth options={options} value={value} />
        </details>
      )}
    </>
  )
}

/** The MB/s of one disk by its size, the chosen type before the others. */
function Growth({ options, value }: { options: Option[]; value: string }) {
  const { x, lines } = useMemo(() => {
    const sizes = [...new Set(options.flatMap((o) => (o.reaches ?? []).map((r) => r.bytes)))].toSorted((a, b) => a - b)
    const line = (o: Option) => ({
      label: o.value,
      strong: o.value === value,
      values: sizes.map((b) => o.reaches?.find((r) => r.bytes === b)?.mbps ?? null),
    })
    return {
      x: sizes.map((b) => b / 2 ** 40),
      lines: options.map(line).toSorted((a, b) => Number(a.strong) - Number(b.strong)),
    }
  }, [options, value])
  return (
    <>
      <Plot
        height={150}
        x={x}
        lines={lines}
        xText={tib}
        yText={whole}
        words={`MB/s of one disk by its size: ${value} beside the other types`}
      />
      <p className="text-small text-ink-2">
        MB/s of one disk by its size; <span className="font-semibold text-accent">{value}</span> beside the other types
      </p>
    </>
  )
}

const tib = (v: number) => `${v} TiB`
const whole = (v: number) => String(v)

const all = (d: Disks) => d.bytes * d.count * Math.max(1, d.machines)

/** How disks lie on their machines, to one scale, and what is left of them after redundancy. */
export function DiskLayout({ disks, usable, currency }: { disks: Disks[]; usable: Usable[]; currency: string }) {
  const machines = [...new Set(disks.map((d) => d.machine ?? ''))].map((name) => ({
    name,
    of: disks.filter((d) => (d.machine ?? '') === name),
  }))
  const most = Math.max(...machines.map((m) => m.of.reduce((n, d) => n + d.bytes * d.count, 0)), 1)
  const raw = disks.reduce((n, d) => n + all(d), 0)
  const mbps = disks.reduce((n, d) => n + d.mbps, 0)
  const month = disks.reduce((n, d) => n + d.month, 0)
  return (
    <figure className="space-y-2">
      {machines.map((m) => (
        <div key={m.name}>
          <p className="text-small">
            <span className="font-semibold">{m.name || 'attached to nothing'}</span>
            {m.of[0]!.machines > 1 && <span className="text-ink-2">, {m.of[0]!.machines} times</span>}
          </p>
          <div className="flex h-3.5 gap-px" aria-hidden="true">
            {m.of.flatMap((d) =>
              Array.from({ length: Math.min(d.count, 16) }, (_, i) => (
                <span
                  key={`${d.mount}${d.type}${d.bytes}-${i}`}
                  title={`${d.mount ?? ''} ${gib(d.bytes)} ${d.type}`}
                  className="rounded-[2px] border border-accent bg-accent-soft"
                  style={{ width: `${Math.max(2, (d.bytes / most) * 100)}%` }}
                />
              )),
            )}
          </div>
          <ul className="mt-0.5 text-small text-ink-2">
            {m.of.map((d) => (
              <li key={`${d.mount}${d.type}${d.bytes}`}>
                {d.mount && <span className="font-mono">{d.mount} </span>}
                {d.count > 1 && `${d.count} × `}
                {gib(d.bytes)} {d.type}
              </li>
            ))}
          </ul>
        </div>
      ))}
      {usable
        .filter((u) => u.bytes <= raw)
        .map((u) => (
          <div key={u.name}>
            <p className="text-small">
              <span className="font-semibold">{gib(u.bytes)} usable</span>{' '}
              <span className="text-ink-2">
                of {gib(raw)}, {Math.round((u.bytes / raw) * 100)} %; the rest is redundancy
              </span>
            </p>
            <div className="flex h-3.5 overflow-hidden rounded-[2px] border border-line" aria-hidden="true">
              <span className="bg-accent" style={{ width: `${(u.bytes / raw) * 100}%` }} />
              <span className="hatched flex-1" />
            </div>
          </div>
        ))}
      <figcaption className="text-small text-ink-2">
        {gib(raw)} in all{mbps > 0 && `, ${Math.round(mbps)} MB/s together`}
        {month > 0 && `, ${month.toFixed(0)} ${currency} a month`}
      </figcaption>
    </figure>
  )
}
