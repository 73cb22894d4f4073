import { useMutation } from '@tanstack/react-query'
import { useFieldArray, useForm } from 'react-hook-form'
import { Link, useNavigate } from 'react-router'
import { keep } from '../api/browser'
import { api, unwrap } from '../api/client'
import { Button, PageTitle, Sheet, Trouble } from '../parts/ui'
import { box } from '../parts/form'

interface Answers {
  name: string
  title: string
  with: string[]
  tiers: { name: string; machines: number; port: number }[]
}

const extras = [
  ['public', 'a public address, and rules that say who may connect'],
  ['login', 'a key pair to log in with, and a range that may'],
  ['disk', 'a data disk that outlives rebuilds of the machine'],
  ['password', 'a secret that is drawn at acceptance'],
  ['workers', 'a number of workers behind the machine'],
] as const

/** A new template from a few answers; what comes out is a text that passes every check. */
export default function NewTemplatePage() {
  const navigate = useNavigate()
  const form = useForm<Answers>({ defaultValues: { name: '', title: '', with: ['public'], tiers: [] } })
  const tiers = useFieldArray({ control: form.control, name: 'tiers' })
  const start = useMutation({
    mutationFn: (a: Answers) =>
      unwrap(
        api.POST('/api/v1/texts/start', {
          body: { ...a, tiers: a.tiers.map((t) => ({ ...t, machines: Number(t.machines), port: Number(t.port) })) },
        }),
      ),
    onSuccess: (t, a) => {
      keep(`text ${a.name}`, t.source)
      void navigate(`/library/${a.name}/text`)
    },
  })
  return (
    <>
      <PageTitle trail={<Link to="/library">Library</Link>}>New template</PageTitle>
      <form onSubmit={form.handleSubmit((a) => start.mutate(a))} className="max-w-2xl space-y-3">
        <Sheet title="What it is called">
          <label className="block font-semibold" htmlFor="name">
            Name
          </label>
          <input
            id="name"
            {...form.register('name', { required: 'give it a name' })}
            autoComplete="off"
            spellCheck={false}
            placeholder="tide-board"
            className={`${box} w-72`}
            aria-invalid={!!form.formState.errors.name}
          />
          {form.formState.errors.name && (
            <p role="alert" className="text-small text-bad">
              {form.formState.errors.name.message}
            </p>
          )}
          <label className="mt-2.5 block font-semibold" htmlFor="title">
            Title
          </label>
          <input
            id="title"
            {...form.register('title')}
            autoComplete="off"
            placeholder="Tide board"
            className={`${box} w-72`}
          />
        </Sheet>
        <Sheet title="What it has beside a network and a machine">
          {extras.map(([name, about]) => (
            <label key={name} className="flex items-baseline gap-2.5 py-0.5">
              <input
                type="checkbox"
                value={name}
                {...form.register('with')}
                className="translate-y-[1px] accent-[var(--accent)]"
              />
              <span>
                <span className="font-semibold">{name}</span> <span className="text-ink-2">{about}</span>
              </span>
            </label>
          ))}
        </Sheet>
        <Sheet title="Tiers behind the machine" note="each may be asked by the one before it only">
          {tiers.fields.length === 0 && <p className="text-ink-2">None: one machine alone.</p>}
          <ol className="space-y-1.5">
            {tiers.fields.map((f, i) => (
              <li key={f.id} className="flex flex-wrap items-end gap-3">
                <label className="text-small">
                  Name
                  <input {...form.register(`tiers.${i}.name`, { required: true })} className={`${box} block w-36`} />
                </label>
                <label className="text-small">
                  Machines
                  <input
                    type="number"
                    min={1}
                    max={16}
                    {...form.register(`tiers.${i}.machines`)}
                    className={`${box} block w-24`}
                  />
                </label>
                <label className="text-small">
                  Port
                  <input
                    type="number"
                    min={1}
                    max={65535}
                    {...form.register(`tiers.${i}.port`)}
                    className={`${box} block w-28`}
                  />
                </label>
                <Button onClick={() => tiers.remove(i)} aria-label={`remove tier ${i + 1}`}>
                  ×
                </Button>
              </li>
            ))}
          </ol>
          <Button
            small
            className="mt-1.5"
            onClick={() =>
              tiers.append({
                name: ['middle', 'store', 'archive'][tiers.fields.length] ?? `tier${tiers.fields.length + 1}`,
                machines: 2,
                port: 8080,
              })
            }
          >
            Add a tier
          </Button>
        </Sheet>
        {start.isError && <Trouble error={start.error} />}
        <Button type="submit" kind="main" disabled={start.isPending}>
          Write it
        </Button>
      </form>
    </>
  )
}
