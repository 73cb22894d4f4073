import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useId, useState } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { Button, Trouble } from '../parts/ui'
import { box } from '../parts/form'
import type { FormField, Keeping } from './draft'

type Option = Schemas['Option']

/** Gives the service what was typed, or has it drawn; it is kept there at once, and the draft names it. */
function useSealing(field: FormField, k: Keeping, done: () => void) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: Schemas['DraftSecret']) =>
      unwrap(
        api.PUT('/api/v1/drafts/{id}/secrets/{input}', {
          params: { path: { id: k.draft.id, input: field.name } },
          body: given,
        }),
      ),
    onSuccess: async () => {
      done()
      await k.refresh()
      await client.invalidateQueries({ queryKey: ['choices', k.draft.id] })
    },
    gcTime: 0,
  })
}

/** A secret: one that is sealed already, one typed now and sealed at once, or one that is drawn. */
export function SecretControl({
  id,
  field,
  options,
  k,
}: {
  id: string
  field: FormField
  options: Option[]
  k: Keeping
}) {
  const group = useId()
  const inputs = { ...(k.draft.body.inputs as Record<string, unknown> | undefined), ...k.typed.inputs }
  const named = typeof inputs[field.name] === 'string' ? (inputs[field.name] as string) : ''
  const [typing, setTyping] = useState(false)
  const [value, setValue] = useState('')
  const seal = useSealing(field, k, () => {
    setTyping(false)
    setValue('')
  })
  const choose = (what: string | null) => {
    setTyping(what === 'typed')
    if (what !== 'typed' && what !== (named || null)) k.change({ inputs: { [field.name]: what } })
  }
  const drawn = field.generate && !named && !typing
  const keeps = !named && !typing && !field.generate && (field.origin === 'recorded' || field.origin === 'given')
  return (
    <div className="space-y-1.5">
      <div role="radiogroup" aria-label={field.title ?? field.name} className="flex flex-wrap gap-x-5 gap-y-1">
        {(field.generate || keeps) && (
          <label className="flex items-center gap-2">
            <input
              id={id}
              type="radio"
              name={group}
              checked={drawn || keeps}
              onChange={() => choose(null)}
              className="accent-[var(--accent)]"
            />
            {field.origin === 'recorded' ? 'stays as it is' : 'drawn when it is accepted'}
          </label>
        )}
        <label className="flex items-center gap-2">
          <input
            id={field.generate || keeps ? undefined : id}
            type="radio"
            name={group}
            checked={!!named && !typing}
            disabled={options.length === 0}
            onChange={() => choose(named || options[0]!.value)}
            className="accent-[var(--accent)]"
          />
          one that is sealed already
        </label>
        <label className="flex items-center gap-2">
          <input
            type="radio"
            name={group}
            checked={typing}
            onChange={() => choose('typed')}
            className="accent-[var(--accent)]"
          />
          typed now
        </label>
        {!field.generate && (
          <Button small disabled={seal.isPending} onClick={() => seal.mutate({})}>
            Draw one now
          </Button>
        )}
      </div>
      {named && !typing && (
        <select
          value={named}
          aria-label={`Sealed secret for ${field.title ?? field.name}`}
          onChange={(e) => k.change({ inputs: { [field.name]: e.target.value } })}
          className={box}
        >
          {!options.some((o) => o.value === named) && <option value={named}>{named.replace('secret:', '')}</option>}
          {options.map((o) => (
            <option key={o.value} value={o.value}>
              {o.value.replace('secret:', '')}
              {o.about ? `, ${o.about}` : ''}
            </option>
          ))}
        </select>
      )}
      {typing && (
        <form
          onSubmit={(e) => {
            e.preventDefault()
            seal.mutate({ value })
          }}
        >
          <div className="flex flex-wrap items-center gap-2">
            <input
              type="password"
              value={value}
              onChange={(e) => setValue(e.target.value)}
              autoComplete="new-password"
              aria-label={`${field.title ?? field.name}, typed`}
              className={`${box} w-64`}
            />
            <Button type="submit" kind="main" className="py-1" disabled={!value || seal.isPending}>
              Seal it
            </Button>
          </div>
          <Ticking id={k.draft.id} field={field} value={value} />
        </form>
      )}
      {seal.isError && <Trouble error={seal.error} />}
    </div>
  )
}

/** The rules of a secret, ticked off while it is typed. The service judges; nothing is kept of what it is asked. */
function Ticking({ id, field, value }: { id: string; field: FormField; value: string }) {
  const [asked, setAsked] = useState('')
  useEffect(() => {
    const t = setTimeout(() => setAsked(value), 120)
    return () => clearTimeout(t)
  }, [value])
  const broken = useQuery({
    queryKey: ['try-secret', id, field.name, asked],
    enabled: asked !== '',
    gcTime: 0,
    staleTime: 0,
    placeholderData: (before) => before,
    queryFn: () =>
      unwrap(
        api.POST('/api/v1/drafts/{id}/secrets/{input}/try', {
          params: { path: { id, input: field.name } },
          body: { value: asked },
        }),
      ),
  })
  if (value === '') return <p className="mt-1 text-small text-ink-2">{field.rule_words}</p>
  return (
    <ul aria-live="polite" className="mt-1 text-small">
      {broken.data?.map((b) => (
        <li key={b} className="text-bad">
          ✗ {b}
        </li>
      ))}
      {broken.data?.length === 0 && <li className="text-[var(--healthy)]">✓ keeps every rule: {field.rule_words}</li>}
    </ul>
  )
}

/** A key pair: one that is there, one made now, or the public half of one's own. */
export function KeyMaker({ field, k }: { field: FormField; k: Keeping }) {
  const [own, setOwn] = useState(false)
  const [text, setText] = useState('')
  const make = useSealing(field, k, () => {
    setOwn(false)
    setText('')
  })
  return (
    <div className="mt-1.5 space-y-1.5">
      <div className="flex gap-2">
        <Button small disabled={make.isPending} onClick={() => make.mutate({})}>
          Make a new one
        </Button>
        <Button small aria-expanded={own} onClick={() => setOwn(!own)}>
          Use a public key of mine
        </Button>
      </div>
      {own && (
        <form
          onSubmit={(e) => {
            e.preventDefault()
            make.mutate({ public: text.trim() })
          }}
          className="space-y-1.5"
        >
          <textarea
            value={text}
            onChange={(e) => setText(e.target.value)}
            rows={3}
            spellCheck={false}
            aria-label="Public key"
            placeholder="ssh-ed25519 AAAA…"
            className={`${box} w-full font-mono text-small`}
          />
          <div className="flex items-center gap-2">
            <Button type="submit" className="py-1" disabled={!text.trim() || make.isPending}>
              Keep it
            </Button>
            <label className="text-small text-ink-2">
              or a file:{' '}
              <input
                type="file"
                accept=".pub,text/plain"
                onChange={(e) => void e.target.files?.[0]?.text().then(setText)}
              />
            </label>
          </div>
        </form>
      )}
      {make.isError && <Trouble error={make.error} />}
    </div>
  )
}
