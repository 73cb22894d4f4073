import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
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
    mutationFn: () => unwrap(api.POST('/api/v1/stacks/{name}/retire', { params: { path: { name: s.name }, query: { keep: [...keep], lift_guard: [...lift] } } })),
    onSuccess: (p) => void navigate(`/proposals/${p.id}`),
  })
  const list = s.resources ?? []
  const guarded = list.filter((r) => r.guard && !keep.has(r.name))
  const holding = list.filter((r) => r.holds_data || r.guard)
  const toggle = (of: ReadonlySet<string>, name: string) => { const next = new Set(of); if (!next.delete(name)) next.add(name); return next }
  const open = guarded.filter((r) => !lift.has(r.name))
  if (holding.length === 0) {
    return (
      <>
        {propose.isError && <span className="basis-full"><Trouble error={propose.error} /></span>}
        <Button kind="danger" onClick={() => propose.mutate()} disabled={disabled || propose.isPending}>Propose to retire</Button>
      </>
    )
  }
  return (
    <Panel title={`Propose to retire ${s.name}`} trigger={<Button kind="danger" disabled={disabled}>Propose to retire</Button>} reset={() => { propose.reset(); setKeep(new Set()); setLift(new Set()) }}>
      {(close) => (
        <form onSubmit={(e) => { e.preventDefault(); propose.mutate() }}>
          <p className="text-ink-2">Nothing is removed before the proposal is accepted. Say what becomes of what holds data or is guarded.</p>
          <ul className="mt-3 space-y-2.5">
            {holding.map((r) => (
              <li key={r.name}>
                <span className="font-semibold">{r.name}</span> <span className="text-ink-2">{r.type}{r.guard && ', guarded'}{r.holds_data && ', holds data'}</span>
                {r.kept ? <span className="block text-small text-ink-2">its template keeps it</span> : r.holds_data && <label className="flex items-baseline gap-2"><input type="checkbox" name={`keep ${r.name}`} checked={keep.has(r.name)} onChange={() => setKeep(toggle(keep, r.name))} className="translate-y-[1px] accent-[var(--accent)]" />keep it in the cloud, where it is still paid for</label>}
                {r.guard && !keep.has(r.name) && <label className="flex items-baseline gap-2"><input type="checkbox" name={`lift ${r.name}`} checked={lift.has(r.name)} onChange={() => setLift(toggle(lift, r.name))} className="translate-y-[1px] accent-[var(--accent)]" />lift its guard for this once</label>}
              </li>
            ))}
          </ul>
          {open.length > 0 && <p className="mt-3 text-small text-settling">{open.map((r) => r.name).join(', ')} {open.length === 1 ? 'is' : 'are'} guarded: nothing can be retired before {open.length === 1 ? 'its guard is' : 'their guards are'} lifted.</p>}
          {propose.isError && <div className="mt-3"><Trouble error={propose.error} /></div>}
          <div className="mt-4 flex justify-end gap-2"><Button onClick={close}>Cancel</Button><Button type="submit" kind="danger" disabled={propose.isPending || open.length > 0}>Propose it</Button></div>
        </form>
      )}
    </Panel>
  )
}
