import { useMemo } from 'react'
import type { Schemas } from '../api/client'
import { ChoosingTable, type Column } from '../parts/choosing-table'
import { gib } from '../parts/words'

type Option = Schemas['Option']

/** What is told of the things of a kind, beside their names. */
function columnsOf(kind: string): Column<Option>[] {
  const name: Column<Option> = {
    id: 'name',
    title:
      {
        zone: 'Zone',
        zones: 'Zone',
        image: 'Image',
        network: 'Network',
        subnet: 'Subnet',
        key_pair: 'Key pair',
        stack: 'Stack',
        engine: 'Engine',
        family: 'Family',
        host: 'Dedicated host',
      }[kind] ?? 'Choice',
    value: (o) => o.value,
  }
  switch (kind) {
    case 'zone':
    case 'zones':
      return [
        name,
        {
          id: 'about',
          title: 'Sells',
          value: (o) => o.holds?.length ?? 0,
          show: (o) => <span title={o.holds?.join(', ')}>{o.about}</span>,
        },
      ]
    case 'image':
      return [
        name,
        { id: 'system', title: 'System', value: (o) => [o.image?.system, o.image?.version].filter(Boolean).join(' ') },
        { id: 'for', title: 'For', value: (o) => o.image?.architecture },
        {
          id: 'memory',
          title: 'Memory at least',
          numeric: true,
          value: (o) => o.image?.min_memory_bytes,
          show: (o) => (o.image ? gib(o.image.min_memory_bytes) : '–'),
        },
        { id: 'user', title: 'Signs in as', value: (o) => o.image?.user },
        { id: 'ends', title: 'Supported until', extra: true, value: (o) => o.image?.ends },
        {
          id: 'terms',
          title: 'Terms',
          value: (o) => (o.image?.terms?.name ? (o.image.terms.accepted ? 'accepted' : 'to accept') : 'none'),
        },
      ]
    case 'network':
    case 'subnet':
      return [
        name,
        { id: 'about', title: 'Range and what is taken', value: (o) => o.about, wrap: true },
        ...(kind === 'network'
          ? [
              {
                id: 'holds',
                title: 'In it',
                value: (o: Option) => o.holds?.length ?? 0,
                wrap: true,
                show: (o: Option) =>
                  o.holds?.length ? (
                    o.holds.map((h) => (
                      <span key={h} className="block text-small">
                        {h}
                      </span>
                    ))
                  ) : (
                    <span className="text-ink-2">nothing yet</span>
                  ),
              },
            ]
          : []),
      ]
    case 'family':
      return [
        name,
        { id: 'about', title: 'What one host carries', value: (o) => o.about, wrap: true },
        {
          id: 'month',
          title: 'A month',
          numeric: true,
          value: (o) => o.month,
          show: (o) => (o.month ? Math.round(o.month).toLocaleString() : 'not told'),
        },
        { id: 'zones', title: 'In', value: (o) => o.holds?.join(', '), wrap: true },
      ]
    default:
      return [name, { id: 'about', title: 'What it is', value: (o) => o.about, wrap: true }]
  }
}

/** Things of one kind side by side, with the terms of the image that is chosen. */
export function Options({
  label,
  kind,
  options,
  value,
  several,
  onChange,
}: {
  label: string
  kind: string
  options: Option[]
  value: string[]
  several: boolean
  onChange: (values: string[]) => void
}) {
  const columns = useMemo(() => columnsOf(kind), [kind])
  const terms = kind === 'image' ? options.find((o) => value.includes(o.value))?.image?.terms : undefined
  return (
    <>
      <ChoosingTable
        label={label}
        rows={options}
        columns={columns}
        chosen={value}
        onChoose={onChange}
        several={several}
      />
      {terms?.name && (
        <details className="mt-2 rounded-[6px] border border-line p-2.5" open={!terms.accepted}>
          <summary className="cursor-pointer font-semibold">
            {terms.name}: {terms.accepted ? 'accepted by this account' : 'to be accepted with the proposal'}
          </summary>
          <p className="mt-1.5 text-small whitespace-pre-wrap">{terms.text}</p>
        </details>
      )}
    </>
  )
}
