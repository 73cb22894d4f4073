import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, unwrap, type Run } from '../api/client'
import { goOn } from '../api/continuing'
import { Button, Sheet } from '../parts/ui'

/** The one action that belongs beside the facts: stopping what goes on, undoing what is done. */
export function actionsOf(run: Run, act: (what: 'stop' | 'undo') => void, busy: boolean) {
  if (!run.ended_at)
    return (
      <Button onClick={() => act('stop')} disabled={busy || run.state === 'stopping'}>
        Stop after calls in flight
      </Button>
    )
  if (run.state === 'done' && run.kind === 'apply')
    return (
      <Button onClick={() => act('undo')} disabled={busy}>
        Propose to undo
      </Button>
    )
  return undefined
}

/** What can be done with a run, each with what it would do. */
export function useActions(run: Run) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [refused, setRefused] = useState<{ error: unknown; state: string } | null>(null)
  const path = { params: { path: { id: run.id } } }
  const act = useMutation({
    onMutate: () => {
      setRefused(null)
      return run.state
    },
    mutationFn: async (what: 'stop' | 'continue' | 'retry' | 'undo'): Promise<string | null> => {
      switch (what) {
        case 'stop':
          return unwrap(api.POST('/api/v1/runs/{id}/stop', path)).then(() => null)
        case 'retry':
          return unwrap(api.POST('/api/v1/runs/{id}/retry', path)).then(() => null)
        case 'undo':
          return unwrap(api.POST('/api/v1/runs/{id}/undo', path)).then((p) => `/proposals/${p.id}`)
        case 'continue':
          return goOn(run.stack)
      }
    },
    onSuccess: (to) => {
      if (to) void navigate(to)
    },
    onError: (error, _what, state = run.state) => setRefused({ error, state }),
    // Nothing can be pressed until the page shows the run as it became.
    onSettled: () => client.invalidateQueries({ queryKey: ['run', run.id] }),
  })
  // What was refused while the run was in another state may be in order by now.
  return { act, failure: refused?.state === run.state ? refused.error : null }
}

const named = (steps: { resource: string }[]) =>
  steps.length > 4
    ? `${steps
        .slice(0, 3)
        .map((s) => s.resource)
        .join(', ')} and ${steps.length - 3} more`
    : steps.map((s) => s.resource).join(', ')

/** The ways on from a run that ended without being done, or waits. */
export function Ways({
  run,
  act,
  busy,
}: {
  run: Run
  act: (what: 'continue' | 'retry' | 'undo') => void
  busy: boolean
}) {
  const steps = run.steps ?? []
  const ended = run.ended_at !== undefined
  const forwards = run.kind !== 'retire' && run.kind !== 'undo' && run.kind !== 'discard'
  const failed = steps.filter((s) => s.state === 'failed'),
    open = steps.filter(
      (s) => s.state === 'failed' || s.state === 'skipped' || s.state === 'waiting' || s.state === 'stopped',
    )
  const made = steps.filter((s) => s.change === 'create' && s.made_at),
    altered = steps.filter((s) => s.change !== 'create' && s.made_at),
    begun = steps.filter((s) => s.began_at)
  const ways = [
    run.next &&
      forwards && {
        what: 'continue' as const,
        main: true,
        title: 'Continue with what is missing',
        would: `makes ${named(open)}; what succeeded stays`,
      },
    run.state === 'failed' && {
      what: 'retry' as const,
      main: false,
      title: 'Try failed steps again',
      would: `asks once more for ${named(failed)}, and goes on from there in this run`,
    },
    (ended || run.state === 'parked') &&
      forwards &&
      begun.length > 0 &&
      run.state !== 'undone' &&
      run.state !== 'done' && {
        what: 'undo' as const,
        main: false,
        title: 'Propose to undo',
        would:
          [
            made.length > 0 && `removes ${named(made)}`,
            altered.length > 0 && `puts ${named(altered)} back as they were`,
          ]
            .filter(Boolean)
            .join('; ')
            .concat(made.length + altered.length > 0 ? '' : `removes what there is of ${named(begun)}`) +
          '; nothing happens before you accept it',
      },
  ].filter((w) => w !== false && w !== undefined && w !== '')
  if (ways.length === 0) return null
  return (
    <Sheet pad={false}>
      <ul aria-label="What you can do now">
        {ways.map((w) => (
          <li
            key={w.what}
            className="flex flex-wrap items-center gap-x-4 gap-y-0.5 border-t border-line px-3.5 py-1.5 first:border-t-0"
          >
            <Button
              small
              kind={w.main ? 'main' : 'plain'}
              onClick={() => act(w.what)}
              disabled={busy}
              className="md:w-[190px]"
            >
              {w.title}
            </Button>
            <span className="min-w-0 flex-1 text-ink-2 max-md:basis-full">{w.would}</span>
          </li>
        ))}
      </ul>
    </Sheet>
  )
}
