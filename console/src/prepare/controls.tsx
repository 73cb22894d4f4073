import { useId, useState, type ReactNode } from 'react'
import { box } from '../parts/form'
import { Button } from '../parts/ui'
import type { Schemas } from '../api/client'
import { RangeInput, SourceHelp, wholeWorld } from './ranges'

/** The keywords of a JSON Schema that a control heeds. */
export interface Schema {
  type?: string
  enum?: unknown[]
  const?: unknown
  title?: string
  format?: string
  pattern?: string
  minimum?: number
  maximum?: number
  multipleOf?: number
  maxLength?: number
  items?: Schema
  minItems?: number
  maxItems?: number
  properties?: Record<string, Schema>
  required?: string[]
  additionalProperties?: Schema | boolean
}

/** What a value can be, in words. */
export function bounds(s: Schema): string {
  const parts: string[] = []
  if (s.minimum !== undefined && s.maximum !== undefined) parts.push(`${s.minimum} to ${s.maximum}`)
  else if (s.minimum !== undefined) parts.push(`at least ${s.minimum}`)
  else if (s.maximum !== undefined) parts.push(`at most ${s.maximum}`)
  if (s.multipleOf !== undefined && s.multipleOf !== 1) parts.push(`in steps of ${s.multipleOf}`)
  if (s.minItems !== undefined || s.maxItems !== undefined)
    parts.push(
      s.minItems === s.maxItems
        ? `${s.minItems} of them`
        : s.maxItems === undefined
          ? `${s.minItems} or more`
          : `${s.minItems ?? 0} to ${s.maxItems} of them`,
    )
  if (s.format === 'amount') parts.push('such as 40GiB')
  if (s.format === 'span') parts.push('such as 30d')
  if (s.format === 'cidr') parts.push('such as 10.20.0.0/22')
  return parts.join(', ')
}

export interface Context {
  account?: string
  region?: string
  pictures: Schemas['AddressPicture'][]
}

/** The control that fits a value of a schema; what it cannot tell apart, the service does. */
export function ValueControl({
  id,
  label,
  schema,
  value,
  context,
  describedBy,
  onChange,
}: {
  id: string
  label: string
  schema: Schema
  value: unknown
  context: Context
  describedBy?: string
  onChange: (value: unknown) => void
}): ReactNode {
  if (schema.const !== undefined && schema.type !== 'boolean') {
    return value === schema.const ? (
      <p id={id} className="font-mono">
        {String(value)}
      </p>
    ) : (
      <Button small id={id} onClick={() => onChange(schema.const)}>
        take {String(schema.const)}, the only one
      </Button>
    )
  }
  if (schema.enum) return <Enum id={id} label={label} list={schema.enum} value={value} onChange={onChange} />
  switch (schema.type) {
    case 'boolean':
      return (
        <label className="flex items-center gap-2">
          <input
            id={id}
            type="checkbox"
            checked={value === true}
            onChange={(e) => onChange(e.target.checked)}
            className="accent-[var(--accent)]"
            aria-describedby={describedBy}
          />
          {value === true ? 'yes' : 'no'}
        </label>
      )
    case 'integer':
    case 'number':
      return <NumberInput id={id} schema={schema} value={value} describedBy={describedBy} onChange={onChange} />
    case 'array':
      return (
        <Rows
          id={id}
          label={label}
          schema={schema}
          value={Array.isArray(value) ? value : []}
          context={context}
          onChange={onChange}
        />
      )
    case 'object':
      return (
        <Entries
          id={id}
          label={label}
          schema={schema}
          value={isMap(value) ? value : {}}
          context={context}
          onChange={onChange}
        />
      )
  }
  const text = typeof value === 'string' ? value : ''
  if (schema.format === 'cidr')
    return (
      <RangeInput
        id={id}
        value={text}
        picture={context.pictures.find((p) => p.range === text)}
        describedBy={describedBy}
        onChange={onChange}
      />
    )
  return (
    <input
      id={id}
      value={text}
      onChange={(e) => onChange(e.target.value)}
      maxLength={schema.maxLength}
      spellCheck={false}
      autoComplete="off"
      aria-describedby={describedBy}
      className={`${box} w-full max-w-[360px]`}
    />
  )
}

const isMap = (v: unknown): v is Record<string, unknown> => typeof v === 'object' && v !== null && !Array.isArray(v)

function Enum({
  id,
  label,
  list,
  value,
  onChange,
}: {
  id: string
  label: string
  list: unknown[]
  value: unknown
  onChange: (value: unknown) => void
}) {
  const group = useId()
  if (list.length > 6) {
    return (
      <select
        id={id}
        value={JSON.stringify(value)}
        onChange={(e) => onChange(JSON.parse(e.target.value))}
        className={box}
      >
        {!list.includes(value) && <option value={JSON.stringify(value)}>choose</option>}
        {list.map((v) => (
          <option key={String(v)} value={JSON.stringify(v)}>
            {String(v)}
          </option>
        ))}
      </select>
    )
  }
  return (
    <div role="radiogroup" aria-label={label} className="flex flex-wrap gap-x-5 gap-y-1">
      {list.map((v, i) => (
        <label key={String(v)} className="flex items-center gap-2">
          <input
            id={i === 0 ? id : undefined}
            type="radio"
            name={group}
            value={String(v)}
            checked={v === value}
            onChange={() => onChange(v)}
            className="accent-[var(--accent)]"
          />
          {String(v)}
        </label>
      ))}
    </div>
  )
}

/** A number keeps what is typed until it is one. */
function NumberInput({
  id,
  schema,
  value,
  describedBy,
  onChange,
}: {
  id: string
  schema: Schema
  value: unknown
  describedBy?: string
  onChange: (value: unknown) => void
}) {
  const [text, setText] = useState<string | null>(null)
  const number = typeof value === 'number' ? value : 0
  const step = schema.multipleOf ?? 1
  const wrong = text !== null && text.trim() !== '' && !Number.isFinite(Number(text))
  const to = (n: number) => {
    setText(null)
    onChange(Math.min(schema.maximum ?? Infinity, Math.max(schema.minimum ?? -Infinity, n)))
  }
  return (
    <span className="inline-flex items-center gap-1">
      <Button
        className="px-2.5"
        aria-label="less"
        disabled={schema.minimum !== undefined && number <= schema.minimum}
        onClick={() => to(number - step)}
      >
        −
      </Button>
      <input
        id={id}
        inputMode="decimal"
        value={text ?? (typeof value === 'number' ? String(value) : '')}
        aria-describedby={describedBy}
        className={`${box} w-20 text-center`}
        onChange={(e) => {
          setText(e.target.value)
          const n = Number(e.target.value)
          if (e.target.value.trim() !== '' && Number.isFinite(n)) onChange(n)
        }}
        onBlur={() => {
          if (!wrong) setText(null)
        }}
        aria-invalid={wrong || undefined}
        onKeyDown={(e) => {
          if (e.key === 'ArrowUp') {
            e.preventDefault()
            to(number + step)
          }
          if (e.key === 'ArrowDown') {
            e.preventDefault()
            to(number - step)
          }
        }}
      />
      <Button
        className="px-2.5"
        aria-label="more"
        disabled={schema.maximum !== undefined && number >= schema.maximum}
        onClick={() => to(number + step)}
      >
        +
      </Button>
      {wrong && (
        <span role="alert" className="ml-2 text-small text-bad">
          this is no number; {typeof value === 'number' ? `${value} counts` : 'nothing counts'} until it is
        </span>
      )}
    </span>
  )
}

const blank = (s: Schema | undefined): unknown => {
  switch (s?.type) {
    case 'integer':
    case 'number':
      return s.minimum ?? 0
    case 'boolean':
      return false
    case 'array':
      return []
    case 'object':
      return {}
  }
  return ''
}

/** What a control of a value in several parts is given. */
interface Part<Value> {
  id: string
  label: string
  schema: Schema
  value: Value
  context: Context
  onChange: (value: unknown) => void
}

/** A list as rows; sources come with help. */
function Rows({ id, label, schema, value, context, onChange }: Part<unknown[]>) {
  const item = schema.items ?? { type: 'string' }
  const set = (i: number, v: unknown) => onChange(value.map((x, k) => (k === i ? v : x)))
  const sources = item.format === 'cidr'
  return (
    <div role="group" aria-label={label}>
      {value.length === 0 && <p className="text-small text-ink-2">None yet.</p>}
      <ol className="space-y-1.5">
        {value.map((v, i) => (
          <li key={i} className="flex flex-wrap items-start gap-2">
            <ValueControl
              id={i === 0 ? id : `${id}-${i}`}
              label={`${label}, ${i + 1}`}
              schema={item}
              value={v}
              context={{ ...context, pictures: [] }}
              onChange={(x) => set(i, x)}
            />
            <Button
              className="px-2.5"
              aria-label={`remove ${typeof v === 'string' ? v : `row ${i + 1}`}`}
              onClick={() => onChange(value.filter((_, k) => k !== i))}
            >
              ×
            </Button>
            {sources && wholeWorld(v) && (
              <span className="self-center font-semibold text-settling">This lets the whole world in.</span>
            )}
          </li>
        ))}
      </ol>
      <div className="mt-1.5">
        <Button
          small
          id={value.length === 0 ? id : undefined}
          disabled={schema.maxItems !== undefined && value.length >= schema.maxItems}
          onClick={() => onChange([...value, blank(item)])}
        >
          Add a row
        </Button>
      </div>
      {sources && (
        <SourceHelp
          account={context.account}
          region={context.region}
          have={value.map(String)}
          onAdd={(r) => onChange([...value.filter((v) => v !== ''), r])}
        />
      )}
    </div>
  )
}

/** An object: its own fields, and names with values where any may be given. */
function Entries({ id, label, schema, value, context, onChange }: Part<Record<string, unknown>>) {
  const [name, setName] = useState('')
  const own = Object.entries(schema.properties ?? {})
  const free = schema.additionalProperties !== false && (own.length === 0 || schema.additionalProperties !== undefined)
  const rest = Object.entries(value).filter(([k]) => !schema.properties?.[k])
  const restSchema = typeof schema.additionalProperties === 'object' ? schema.additionalProperties : { type: 'string' }
  const without = (k: string) => Object.fromEntries(Object.entries(value).filter(([x]) => x !== k))
  return (
    <div role="group" aria-label={label} className="space-y-1.5">
      {own.map(([k, s], i) => (
        <div key={k} className="flex flex-wrap items-center gap-2">
          <label htmlFor={i === 0 ? id : `${id}-${k}`} className="w-32 text-small">
            {s.title ?? k}
            {schema.required?.includes(k) ? '' : ' (optional)'}
          </label>
          <ValueControl
            id={i === 0 ? id : `${id}-${k}`}
            label={`${label}, ${k}`}
            schema={s}
            value={value[k]}
            context={context}
            onChange={(v) => onChange({ ...value, [k]: v })}
          />
        </div>
      ))}
      {free &&
        rest.map(([k, v]) => (
          <div key={k} className="flex flex-wrap items-center gap-2">
            <label htmlFor={`${id}-${k}`} className="w-32 font-mono text-small">
              {k}
            </label>
            <ValueControl
              id={`${id}-${k}`}
              label={`${label}, ${k}`}
              schema={restSchema}
              value={v}
              context={context}
              onChange={(x) => onChange({ ...value, [k]: x })}
            />
            <Button className="px-2.5" aria-label={`remove ${k}`} onClick={() => onChange(without(k))}>
              ×
            </Button>
          </div>
        ))}
      {free && (
        <form
          className="flex items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault()
            if (name && !(name in value)) {
              onChange({ ...value, [name]: blank(restSchema) })
              setName('')
            }
          }}
        >
          <input
            id={own.length === 0 ? id : undefined}
            value={name}
            onChange={(e) => setName(e.target.value)}
            placeholder="name"
            aria-label={`Name to add to ${label}`}
            className={`${box} w-32`}
          />
          <Button type="submit" className="px-2 py-0.5 text-small" disabled={!name || name in value}>
            Add it
          </Button>
        </form>
      )}
    </div>
  )
}
