import { useMutation } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { api, unwrap, type Stack } from '../api/client'
import { Panel } from '../parts/form'
import { Button, Trouble } from '../parts/ui'

/** What is to stay of a stack, and which guards are lifted, before its removal is proposed. */
export function Retiring({ s, disabled }: { s: Stack; disabled: boolean }) {
  const navigate = useNavigate()
  const [keep, setKeep] = useState<ReadonlySet<string>>(new Set())
  const [lift, setLift] = useState<ReadonlySet<string>>(new Set())
  const propose = useMutation({
    mutationFn: () =>
      unwrap(
        api.POST('/api/v1/stacks/{name}/retire', {
          params: { path: { name: s.name }, query: { keep: [...keep], lift_guard: [...lift] } },
        }),
      ),
    onSuccess: (p) => void navigate(`/proposals/${p.id}`),
  })
  const list = s.resources ?? []
  const guarded = list.filter((r) => r.guard && !keep.has(r.name))
  const holding = list.filter((r) => r.holds_data || r.guard)
  const open = guarded.filter((r) => !lift.has(r.name))
  if (holding.length === 0) {
    return (
      <>
        {propose.isError && (
          <span className="basis-full">
            <Trouble error={propose.error} />
          </span>
        )}
        <Button kind="danger" onClick={() => propose.mutate()} disabled={disabled || propose.isPending}>
          Propose to retire
        </Button>
      </>
    )
  }
  return (
    <Panel
      title={`Propose to retire ${s.name}`}
      trigger={
        <Button kind="danger" disabled={disabled}>
          Propose to retire
        </Button>
      }
      reset={() => {
        propose.reset()
        setKeep(new Set())
        setLift(new Set())
      }}
    >
      {(close) => (
        <form
          onSubmit={(e) => {
            e.preventDefault()
            propose.mutate()
          }}
        >
          <p className="text-ink-2">
            Nothing is removed before the proposal is accepted. Say what becomes of what holds data or is guarded.
          </p>
          <ul className="mt-3 space-y-2.5">
            {holding.map((r) => (
              <li key={r.name}>
                <span className="font-semibold">{r.name}</span>{' '}
                <span className="text-ink-2">
                  {r.type}
                  {r.guard && ', guarded'}
                  {r.holds_data && ', holds data'}
                </span>
                {r.kept && <span className="block text-small text-ink-2">its template keeps it</span>}
                {r.holds_data && !r.kept && (
                  <Tick name={`keep ${r.name}`} in={keep} of={r.name} onTick={setKeep}>
                    keep it in the cloud, where it is still paid for
                  </Tick>
                )}
                {r.guard && !keep.has(r.name) && (
                  <Tick name={`lift ${r.name}`} in={lift} of={r.name} onTick={setLift}>
                    lift its guard for this once
                  </Tick>
                )}
              </li>
            ))}
          </ul>
          {open.length > 0 && (
            <p className="mt-3 text-small text-settling">
              {open.map((r) => r.name).join(', ')} {open.length === 1 ? 'is' : 'are'} guarded: nothing can be retired
              before {open.length === 1 ? 'its guard is' : 'their guards are'} lifted.
            </p>
          )}
          {propose.isError && (
            <div className="mt-3">
              <Trouble error={propose.error} />
            </div>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={close}>Cancel</Button>
            <Button type="submit" kind="danger" disabled={propose.isPending || open.length > 0}>
              Propose it
            </Button>
          </div>
        </form>
      )}
    </Panel>
  )
}

/** One resource in a set of them, or not. */
function Tick({
  name,
  in: set,
  of,
  onTick,
  children,
}: {
  name: string
  in: ReadonlySet<string>
  of: string
  onTick: (next: ReadonlySet<string>) => void
  children: ReactNode
}) {
  return (
    <label className="flex items-baseline gap-2">
      <input
        type="checkbox"
        name={name}
        checked={set.has(of)}
        className="translate-y-[1px] accent-[var(--accent)]"
        onChange={(e) => onTick(new Set(e.target.checked ? [...set, of] : [...set].filter((x) => x !== of)))}
      />
      {children}
    </label>
  )
}
