import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, unwrap } from '../api/client'
import { FindingMark } from '../parts/findings'
import { Button, Loading } from '../parts/ui'
import { gib, valueText } from '../parts/words'
import { bounds, ValueControl, type Context, type Schema } from './controls'
import { isGiven, shownValue, type FormField, type Keeping } from './draft'
import { DiskTypes } from './disks'
import { Options } from './options'
import { KeyMaker, SecretControl } from './secrets'
import { Sizes } from './sizes'

/** Kinds of things that are chosen from what the account has or can have. */
const picked = new Set([
  'region',
  'zone',
  'zones',
  'size',
  'image',
  'disk_type',
  'network',
  'subnet',
  'key_pair',
  'host',
  'engine',
  'family',
  'domain',
  'stack',
])

export const fieldId = (name: string) => `field-${name}`

/** One input: what it is, the control that fits it, where its value comes from, and what speaks against it. */
export function Field({
  field,
  k,
  context,
  currency,
}: {
  field: FormField
  k: Keeping
  context: Context
  currency: string
}) {
  const id = fieldId(field.name)
  const schema = field.schema as Schema
  const value = shownValue(field, k)
  const given = isGiven(field, k)
  const set = (v: unknown) => k.change({ inputs: { [field.name]: v } })
  const title = field.title ?? field.name
  const found = field.findings.filter((f) => f.code !== 'missing-input')
  return (
    <section
      aria-labelledby={`${id}-title`}
      className="border-b border-line px-4 py-3 last:border-b-0"
      data-field={field.name}
    >
      <div className="mb-1.5 flex flex-wrap items-baseline gap-x-3 gap-y-0.5">
        <label id={`${id}-title`} htmlFor={id} className="font-semibold">
          {title}
        </label>
        <span id={`${id}-note`} className="text-small text-ink-2">
          {note(field, schema)}
        </span>
        <span className="ml-auto text-small text-ink-2">
          <Origin field={field} given={given} onBack={() => k.change({ inputs: { [field.name]: null } })} />
        </span>
      </div>
      {field.advice && <p className="mb-1.5 text-small text-ink-2">{field.advice}</p>}
      {field.secret ? (
        <Chosen field={field} k={k}>
          {(options) => <SecretControl id={id} field={field} options={options} k={k} />}
        </Chosen>
      ) : picked.has(field.kind) && !schema.const ? (
        <Chosen field={field} k={k}>
          {(options) => (
            <>
              {field.kind === 'size' ? (
                <Sizes
                  label={title}
                  options={options}
                  value={String(value ?? '')}
                  currency={currency}
                  onChange={(v) => set(v)}
                />
              ) : field.kind === 'disk_type' ? (
                <DiskTypes
                  label={title}
                  options={options}
                  value={String(value ?? '')}
                  currency={currency}
                  onChange={(v) => set(v)}
                />
              ) : (
                <Options
                  label={title}
                  kind={field.kind}
                  options={options}
                  several={field.kind === 'zones'}
                  value={Array.isArray(value) ? value.map(String) : value ? [String(value)] : []}
                  onChange={(v) => set(field.kind === 'zones' ? v : v[0])}
                />
              )}
              {field.kind === 'key_pair' && <KeyMaker field={field} k={k} />}
            </>
          )}
        </Chosen>
      ) : (
        <ValueControl
          id={id}
          label={title}
          schema={schema}
          value={value}
          context={context}
          describedBy={`${id}-note`}
          onChange={(v) => set(v)}
        />
      )}
      {field.optional && given && (
        <Button small className="mt-1.5" onClick={() => k.change({ inputs: { [field.name]: null } })}>
          Leave it out
        </Button>
      )}
      {field.consent && (
        <p className="mt-1.5 text-small text-settling">A value here asks for consent: {field.consent}</p>
      )}
      {found.map((f) => (
        <div key={f.code + f.message} className="mt-1.5 flex gap-2 text-small">
          <FindingMark severity={f.severity} />
          <span>
            <span className={f.severity === 'error' ? 'text-bad' : undefined}>{f.message}</span>
            {f.remedy && <span className="block text-ink-2">{f.remedy}</span>}
            {f.take && (
              <Button small className="mt-1" onClick={() => set(taken(f.take!, schema))}>
                take {f.take}
              </Button>
            )}
          </span>
        </div>
      ))}
    </section>
  )
}

/** The value that a finding proposes, as the input wants it. */
export function taken(text: string, schema: Schema): unknown {
  if (schema.type === 'integer' || schema.type === 'number') return Number(text)
  if (schema.type === 'boolean') return text === 'true'
  if (schema.type === 'array') return text.split(',').map((x) => x.trim())
  return text
}

function note(field: FormField, schema: Schema): string {
  const parts: string[] = []
  const n = field.needs
  if (n) {
    const needs = [
      n.vcpus && `${n.vcpus} cores`,
      n.memory_bytes && gib(n.memory_bytes),
      n.architecture,
      n.disk_mbps && `${n.disk_mbps} MB/s`,
      n.network_gbps && `${n.network_gbps} Gbit/s`,
    ].filter(Boolean)
    if (needs.length > 0) parts.push(`needs ${needs.join(', ')}`)
  }
  if (field.sized)
    parts.push(
      `sized by ${field.sized.table}, for each ${field.sized.unit}${field.sized.source ? ` (${field.sized.source})` : ''}`,
    )
  if (bounds(schema)) parts.push(bounds(schema))
  if (field.optional) parts.push('may be left out')
  if (field.later) parts.push('given in the middle of the run, which waits for it')
  return parts.join('; ')
}

/** Where a value comes from, and the way back to it. */
function Origin({ field, given, onBack }: { field: FormField; given: boolean; onBack: () => void }) {
  const [shown, setShown] = useState(false)
  if (field.secret)
    return given ? (
      <button type="button" className="text-accent underline" onClick={onBack}>
        take it back
      </button>
    ) : (
      <>{field.origin}</>
    )
  const before =
    field.before !== undefined
      ? `recorded ${valueText(field.before)}`
      : field.default !== undefined
        ? `default ${valueText(field.default)}`
        : field.computed
          ? 'computed otherwise'
          : field.free
            ? 'else a free range'
            : field.sized
              ? 'else as the table says'
              : ''
  if (given)
    return (
      <>
        {before}
        {before && ' · '}
        <button type="button" className="text-accent underline" onClick={onBack}>
          {before ? 'put back' : 'take it back'}
        </button>
      </>
    )
  if (field.computed)
    return (
      <button
        type="button"
        className="underline decoration-dotted"
        aria-expanded={shown}
        onClick={() => setShown(!shown)}
      >
        {shown ? <code className="font-mono">={field.computed.replace(/^=/, '')}</code> : 'computed'}
      </button>
    )
  return <>{field.origin === 'missing' ? 'to be chosen' : field.origin}</>
}

/** What there is to choose from, asked for when the field is shown. */
function Chosen({
  field,
  k,
  children,
}: {
  field: FormField
  k: Keeping
  children: (options: Awaited<ReturnType<typeof choices>>) => React.ReactNode
}) {
  const body = k.draft.body
  // What can be chosen depends on the place; of zones also on the sizes that are chosen.
  const depends = field.kind.startsWith('zone') ? body.inputs : undefined
  const list = useQuery({
    queryKey: ['choices', k.draft.id, field.name, body.account, body.region, depends],
    queryFn: () => choices(k.draft.id, field.name),
    staleTime: 20_000,
    placeholderData: (before) => before,
  })
  if (list.isPending) return <Loading rows={3} />
  if (list.isLoadingError) return <p className="text-small text-bad">{String(list.error)}</p>
  return children(list.data)
}

const choices = (id: string, input: string) =>
  unwrap(api.GET('/api/v1/drafts/{id}/choices/{input}', { params: { path: { id, input } } }))
