import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api, unwrap, type Proposal } from '../api/client'
import { useMay, useMe } from '../api/queries'
import { box, Panel } from '../parts/form'
import { Interruptions } from '../parts/interruptions'
import { Button, Confirm, Sheet } from '../parts/ui'
import { moment } from '../parts/words'

/** A consent as it is given: for what was shown, where it says what that is. */
const asShown = (c: Proposal['consents'][number]) => {
  const digest = c.name === 'secret-use' ? /\(([0-9a-f]{16})\)$/.exec(c.about)?.[1] : undefined
  return digest ? `${c.name}=${digest}` : c.name
}

const none: never[] = []

type Decision = 'apply' | 'accept' | 'refuse' | 'again'

export function useDecision(p: Proposal, agreed: ReadonlySet<string>, comment: string) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [failure, setFailure] = useState<unknown>(null)
  const path = { params: { path: { id: p.id } } }
  const act = useMutation({
    mutationFn: async (what: Decision): Promise<string | null> => {
      setFailure(null)
      if (what === 'refuse')
        return unwrap(
          api.POST('/api/v1/proposals/{id}/refuse', { ...path, body: { why: comment || 'refused in the console' } }),
        ).then(() => null)
      if (what === 'again') {
        const next = await unwrap(api.POST('/api/v1/proposals/{id}/renewal', path))
        return next.id ? `/proposals/${next.id}` : `/stacks/${p.stack}`
      }
      if (p.state === 'open')
        await unwrap(
          api.POST('/api/v1/proposals/{id}/accept', {
            params: {
              path: { id: p.id },
              query: {
                agree: p.consents.filter((c) => agreed.has(c.name)).map(asShown),
                comment: comment || undefined,
              },
            },
          }),
        )
      return what === 'apply'
        ? unwrap(api.POST('/api/v1/proposals/{id}/apply', path)).then((run) => `/runs/${run.id}`)
        : null
    },
    onSuccess: (to) => {
      if (to) void navigate(to)
    },
    onError: setFailure,
    onSettled: () => {
      void client.invalidateQueries({ queryKey: ['proposal', p.id] })
      void client.invalidateQueries({ queryKey: ['proposals'] })
    },
  })
  return { act, failure }
}

/** What moved since the proposal was made, and the way on. */
export function Stale({ p, again, busy }: { p: Proposal; again: () => void; busy: boolean }) {
  const operates = useMay('operate', p.account)
  return (
    <div
      role="status"
      className="flex flex-wrap items-center gap-3 rounded-sheet border border-settling bg-settling-soft px-3.5 py-2"
    >
      <span className="min-w-0 flex-1">
        <span className="font-semibold">It no longer fits what is there.</span> {p.why}
      </span>
      {p.kind === 'apply' && operates && (
        <Button kind="main" onClick={again} disabled={busy}>
          {busy ? 'Proposing…' : 'Propose again'}
        </Button>
      )}
    </div>
  )
}

export function Decide({
  p,
  blocked,
  act,
  comment,
  onComment,
}: {
  p: Proposal
  blocked: boolean
  act: (what: Decision) => void
  comment: string
  onComment: (text: string) => void
}) {
  const me = useMe()
  const decides = useMay('decide', p.account)
  const operates = useMay('operate', p.account)
  if (p.run)
    return (
      <Link className="font-semibold text-accent" to={`/runs/${p.run}`}>
        See run {p.run}
      </Link>
    )
  if (p.state !== 'open' && p.state !== 'accepted') return null
  if ((p.state === 'open' && !decides) || (p.state === 'accepted' && !operates)) return null
  const waits =
    p.state === 'open' && p.second_person === true && [...p.shaped_by, p.created_by].includes(me.data?.name ?? '')
  const kept = p.changes.filter((c) => c.change === 'keep').length
  const gone = p.changes.filter((c) => c.change === 'remove').length
  const words = (
    <label className="mt-3 block text-ink">
      <span className="block text-small font-semibold">Comment</span>
      <textarea
        name="comment"
        value={comment}
        onChange={(e) => onComment(e.target.value)}
        rows={2}
        className={`mt-0.5 w-full ${box}`}
      />
    </label>
  )
  return (
    <div className="flex flex-wrap items-center gap-2">
      {waits && (
        <span role="status" className="text-ink-2">
          Account {p.account} asks that somebody else than you accepts it.
        </span>
      )}
      {p.state === 'open' && (
        <Panel title={`Refuse proposal ${p.id}`} trigger="Refuse">
          {(close) => (
            <>
              {words}
              <div className="mt-4 flex justify-end gap-2">
                <Button onClick={close}>Keep it</Button>
                <Button
                  kind="danger"
                  onClick={() => {
                    close()
                    act('refuse')
                  }}
                >
                  Refuse it
                </Button>
              </div>
            </>
          )}
        </Panel>
      )}
      {!waits && p.state === 'open' && p.kind === 'apply' && (
        <Panel
          title={`Accept proposal ${p.id}`}
          trigger={
            <Button disabled={blocked} className="max-md:hidden">
              Accept with a comment
            </Button>
          }
        >
          {(close) => (
            <>
              {words}
              <div className="mt-4 flex justify-end gap-2">
                <Button
                  onClick={() => {
                    close()
                    act('accept')
                  }}
                >
                  Accept, apply later
                </Button>
                {operates && (
                  <Button
                    kind="main"
                    onClick={() => {
                      close()
                      act('apply')
                    }}
                  >
                    Accept and apply now
                  </Button>
                )}
              </div>
            </>
          )}
        </Panel>
      )}
      {waits ? null : !operates ? (
        <Button kind="main" onClick={() => act('accept')} disabled={blocked}>
          Accept
        </Button>
      ) : p.kind === 'retire' ? (
        <Confirm
          title={`Retire ${p.stack}?`}
          trigger={
            <Button kind="danger" disabled={blocked}>
              Accept and retire
            </Button>
          }
          action={
            <Button kind="danger" onClick={() => act('apply')}>
              Retire it
            </Button>
          }
        >
          {gone} resources are removed, dependents first.{kept > 0 && ` ${kept} are kept, and still paid for.`}
        </Confirm>
      ) : p.kind === 'discard' ? (
        <Confirm
          title="Remove it for good?"
          trigger={
            <Button kind="danger" disabled={blocked}>
              Accept and remove for good
            </Button>
          }
          action={
            <Button kind="danger" onClick={() => act('apply')}>
              Remove it
            </Button>
          }
        >
          {p.changes.map((c) => c.resource).join(', ')} of {p.stack} was kept, and is removed with what it holds.
        </Confirm>
      ) : (
        <Button kind="main" onClick={() => act('apply')} disabled={blocked}>
          {p.kind === 'give' ? 'Accept, and let the run go on' : p.state === 'open' ? 'Accept and apply' : 'Apply'}
        </Button>
      )}
    </div>
  )
}

/** Everything that has to be agreed to by name, with what each means. */
export function Consents({
  p,
  agreed,
  unanswered,
  onAgree,
}: {
  p: Proposal
  agreed: ReadonlySet<string>
  unanswered: number
  onAgree: (names: ReadonlySet<string>) => void
}) {
  const open = p.state === 'open'
  return (
    <Sheet
      title={open ? 'Agree to each of these before it can be accepted' : 'What was to be agreed to'}
      note={open ? `${p.consents.length - unanswered} of ${p.consents.length} agreed` : undefined}
    >
      <ul className="space-y-1.5">
        {p.consents.map((c) => {
          const given = p.given.find((g) => g.name === c.name)
          return (
            <li key={c.name}>
              <label className="flex items-baseline gap-2.5">
                {open && (
                  <input
                    type="checkbox"
                    name={c.name}
                    checked={agreed.has(c.name)}
                    className="translate-y-[1px] accent-[var(--accent)]"
                    onChange={(e) => {
                      const next = new Set(agreed)
                      if (e.target.checked) next.add(c.name)
                      else next.delete(c.name)
                      onAgree(next)
                    }}
                  />
                )}
                <span className="min-w-0">
                  <span className="font-semibold">{c.name}</span> <span className="text-ink-2">{c.about}</span>
                  <Interruptions list={p.interruptions ?? none} consent={c.name} rate={p.rate} />
                  {given && (
                    <span className="block text-small text-ink-2">
                      {given.by} agreed, {moment(given.at)}
                    </span>
                  )}
                </span>
              </label>
            </li>
          )
        })}
      </ul>
    </Sheet>
  )
}
