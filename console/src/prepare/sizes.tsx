import { useMemo } from 'react'
import type { Schemas } from '../api/client'
import { ChoosingTable, type Column } from '../parts/choosing-table'
import { useMeasure, type Measure } from '../parts/measure'
import { gib, price } from '../parts/words'

type Option = Schemas['Option']

/** What is chosen from things side by side that have a price. */
export interface Choosing {
  label: string
  options: Option[]
  value: string
  currency: string
  onChange: (value: string) => void
}

/** By what sizes can be compared: a price for something, where the cloud tells one. */
const measures = (currency: string): Measure<Option>[] => {
  const priced = (words: string, title: string, per: (s: NonNullable<Option['size']>) => number): Measure<Option> => ({
    words,
    title,
    of: (o) => (o.size!.hour > 0 ? o.size!.hour / per(o.size!) : undefined),
    text: (v) => `${v.toFixed(4)} ${currency} an hour ${title}`,
  })
  return [
    priced('price for a core', 'for a core', (s) => s.vcpus),
    priced('price for a GiB of memory', 'for a GiB', (s) => s.memory_bytes / 2 ** 30),
    priced('price for a core and its speed', 'for the speed', (s) => s.vcpus * (s.speed || 1)),
    priced('price of an hour', 'as a whole', () => 1),
  ]
}

/** Sizes side by side, by the measure that matters for what is done with them. */
export function Sizes({ label, options, value, currency, onChange }: Choosing) {
  const sold = useMemo(() => options.filter((o) => o.size), [options])
  const ways = useMemo(() => measures(currency), [currency])
  const { column, tools } = useMeasure(ways, sold)
  const columns = useMemo<Column<Option>[]>(
    () => [
      { id: 'size', title: 'Size', value: (o) => o.value },
      { id: 'cores', title: 'Cores', numeric: true, value: (o) => o.size!.vcpus },
      {
        id: 'memory',
        title: 'Memory',
        numeric: true,
        value: (o) => o.size!.memory_bytes,
        show: (o) => gib(o.size!.memory_bytes),
      },
      {
        id: 'hour',
        title: `${currency} / h`,
        numeric: true,
        value: (o) => o.size!.hour || undefined,
        show: (o) => price(o.size!.hour, 4),
      },
      { id: 'month', title: 'Month', numeric: true, value: (o) => o.month, show: (o) => price(o.month, 0) },
      column,
      { id: 'disk', title: 'MB/s', numeric: true, value: (o) => o.size!.disk_mbps },
      { id: 'net', title: 'Gbit/s', numeric: true, extra: true, value: (o) => o.size!.network_gbps },
      {
        id: 'zones',
        title: 'Zones',
        numeric: true,
        extra: true,
        value: (o) => o.size!.zones.length,
        show: (o) => <span title={o.size!.zones.join(', ')}>{o.size!.zones.length}</span>,
      },
      { id: 'left', title: 'Left', numeric: true, value: (o) => o.left },
    ],
    [currency, column],
  )
  return (
    <ChoosingTable
      label={label}
      rows={sold}
      columns={columns}
      chosen={value ? [value] : []}
      onChoose={(v) => onChange(v[0] ?? '')}
      sorted="measure"
      tools={tools}
    />
  )
}
