import { useQuery } from '@tanstack/react-query'
import { api, unwrap } from '../api/client'
import { Button, Loading } from '../parts/ui'
import { accountSpan, counted, money, valueText } from '../parts/words'
import type { Answer, Keeping } from './draft'

/** Presets as cards that say what they change, with what each would be beside the draft as it is. */
export function PresetsPage({ k, answer }: { k: Keeping; answer: Answer }) {
  const chosen = k.typed.preset !== undefined ? k.typed.preset : k.draft.body.preset
  const compared = useQuery({
    queryKey: ['presets', k.draft.id, k.draft.body.account, k.draft.body.region, k.draft.body.inputs],
    placeholderData: (before) => before,
    staleTime: 15_000,
    queryFn: () => unwrap(api.GET('/api/v1/drafts/{id}/presets', { params: { path: { id: k.draft.id } } })),
  })
  const variant = (name: string) => compared.data?.variants.find((v) => v.name === name)
  const own = (k.draft.body.inputs ?? {}) as Record<string, unknown>
  const cards = [
    {
      name: '',
      title: 'Without a preset',
      about: 'The defaults of the template and what you give yourself.',
      inputs: {} as Record<string, unknown>,
    },
    ...answer.presets,
  ]
  return (
    <section className="px-4 py-3">
      <h3 className="mb-2 font-semibold" id="presets-title">
        Preset <span className="ml-2 text-small font-normal text-ink-2">what you give yourself lies above it</span>
      </h3>
      {compared.isPending && <Loading rows={2} />}
      <div className="grid gap-2.5 md:grid-cols-2" role="group" aria-labelledby="presets-title">
        {cards.map((c) => {
          const on = (chosen ?? '') === c.name
          const v = variant(c.name || 'as given')
          const kept = Object.keys(c.inputs).filter((n) => n in own)
          const errors = v?.errors.filter((f) => f.code !== 'missing-input') ?? []
          return (
            <article
              key={c.name}
              aria-label={c.title}
              className={`flex flex-col rounded-sheet border p-3 ${on ? 'border-accent bg-accent-soft' : 'border-line'}`}
            >
              <div className="flex items-baseline justify-between gap-2">
                <h4 className="font-semibold">{c.title}</h4>
                {on ? (
                  <span className="text-small font-semibold text-accent">chosen</span>
                ) : (
                  <Button small onClick={() => k.change({ preset: c.name || null })}>
                    Take it
                  </Button>
                )}
              </div>
              {c.about && <p className="text-small text-ink-2">{c.about}</p>}
              {v && (
                <p className="mt-1.5">
                  {counted(v.machines, 'machine')} ·{' '}
                  <span className="font-semibold">
                    {v.cost.month.toFixed(0)} {v.cost.currency}
                  </span>{' '}
                  a month ({money(v.cost.hour, v.cost.currency)}) · {accountSpan(v.seconds / answer.rate, answer.rate)}
                </p>
              )}
              {Object.keys(c.inputs).length > 0 && (
                <dl className="mt-1.5 grid grid-cols-[auto_1fr] gap-x-3 text-small">
                  {Object.entries(c.inputs).map(([n, x]) => (
                    <div key={n} className="contents">
                      <dt className="text-ink-2">{n}</dt>
                      <dd className={`font-mono ${n in own ? 'text-ink-2 line-through' : ''}`}>{valueText(x)}</dd>
                    </div>
                  ))}
                </dl>
              )}
              {kept.length > 0 && (
                <p className="mt-1 text-small text-settling">You gave {kept.join(', ')} yourself: that stays.</p>
              )}
              {errors.map((f) => (
                <p key={f.message} className="mt-1 text-small text-bad">
                  {f.message}
                </p>
              ))}
            </article>
          )
        })}
      </div>
    </section>
  )
}
