import { useMemo, useState } from 'react'
import type { Schemas } from '../api/client'
import { ChoosingTable, type Column } from '../parts/choosing-table'
import { gib, price } from '../parts/words'

type Option = Schemas['Option']

/** By what the price of a size can be compared. */
const measures = {
  core: { words: 'price for a core', title: 'for a core', of: (o: Option) => (o.size!.hour / o.size!.vcpus) },
  memory: { words: 'price for a GiB of memory', title: 'for a GiB', of: (o: Option) => o.size!.hour / (o.size!.memory_bytes / 2 ** 30) },
  speed: { words: 'price for a core and its speed', title: 'for the speed', of: (o: Option) => o.size!.hour / (o.size!.vcpus * (o.size!.speed || 1)) },
  whole: { words: 'price of an hour', title: 'as a whole', of: (o: Option) => o.size!.hour },
} as const
type Measure = keyof typeof measures

/** Sizes side by side, by the measure that matters for what is done with them. */
export function Sizes({ label, options, value, currency, onChange }: { label: string; options: Option[]; value: string; currency: string; onChange: (value: string) => void }) {
  const [measure, setMeasure] = useState<Measure>('core')
  const sold = useMemo(() => options.filter((o) => o.size), [options])
  const columns = useMemo<Column<Option>[]>(() => {
    const by = measures[measure]
    const most = Math.max(...sold.map((o) => by.of(o)), 1e-9)
    return [
      { id: 'size', title: 'Size', value: (o) => o.value },
      { id: 'cores', title: 'Cores', numeric: true, value: (o) => o.size!.vcpus },
      { id: 'memory', title: 'Memory', numeric: true, value: (o) => o.size!.memory_bytes, show: (o) => gib(o.size!.memory_bytes) },
      { id: 'hour', title: `${currency} / h`, numeric: true, value: (o) => o.size!.hour || undefined, show: (o) => price(o.size!.hour, 4) },
      { id: 'month', title: 'Month', numeric: true, value: (o) => o.month, show: (o) => price(o.month, 0) },
      {
        id: 'measure', title: by.title, numeric: true, value: (o) => (o.size!.hour > 0 ? by.of(o) : undefined),
        show: (o) => o.size!.hour > 0 && <svg width="52" height="8" role="img" aria-label={by.of(o).toFixed(4)} className="inline-block"><rect x={52 - (by.of(o) / most) * 52} width={Math.max(2, (by.of(o) / most) * 52)} height="8" rx="2" fill="var(--accent)"><title>{`${by.of(o).toFixed(4)} ${currency} an hour ${by.title}`}</title></rect></svg>,
      },
      { id: 'disk', title: 'MB/s', numeric: true, value: (o) => o.size!.disk_mbps },
      { id: 'net', title: 'Gbit/s', numeric: true, extra: true, value: (o) => o.size!.network_gbps },
      { id: 'zones', title: 'Zones', numeric: true, extra: true, value: (o) => o.size!.zones.length, show: (o) => <span title={o.size!.zones.join(', ')}>{o.size!.zones.length}</span> },
      { id: 'left', title: 'Left', numeric: true, value: (o) => o.left },
    ]
  }, [currency, measure, sold])
  return (
    <ChoosingTable
      label={label} rows={sold} columns={columns} chosen={value ? [value] : []} onChoose={(v) => onChange(v[0] ?? '')} sorted="measure"
      tools={<label>compared by <select value={measure} onChange={(e) => setMeasure(e.target.value as Measure)} className="rounded-[6px] border border-line bg-paper px-1.5 py-0.5 text-ink">{Object.entries(measures).map(([name, m]) => <option key={name} value={name}>{m.words}</option>)}</select></label>}
    />
  )
}
