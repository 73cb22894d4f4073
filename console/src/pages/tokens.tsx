import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, unwrap, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { Field, PanelForm } from '../parts/form'
import { useNow } from '../parts/now'
import { Button, Choice, Command, Confirm, Empty, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { ago, moment, roleText, until } from '../parts/words'

type Token = Schemas['Token']

export default function TokensPage() {
  const me = useMe()
  const admin = me.data?.may?.includes('administer') ?? false
  const [all, setAll] = useState(false)
  const list = useQuery({
    queryKey: ['tokens', all],
    queryFn: () => unwrap(api.GET('/api/v1/tokens', { params: { query: all ? { owner: '*' } : {} } })),
  })
  return (
    <>
      <PageTitle
        side={
          <div className="flex gap-2">
            {!me.data?.elsewhere && <ChangePassword />}
            <Add />
          </div>
        }
      >
        Tokens and sessions
      </PageTitle>
      <div className="space-y-3">
        {admin && (
          <div className="flex gap-1.5" role="group" aria-label="Whose">
            {[false, true].map((a) => (
              <Choice key={String(a)} chosen={all === a} onChoose={() => setAll(a)}>
                {a ? 'of everybody' : 'mine'}
              </Choice>
            ))}
          </div>
        )}
        {list.isError && <Trouble error={list.error} retry={() => void list.refetch()} />}
        {list.isPending && (
          <Sheet>
            <Loading />
          </Sheet>
        )}
        {list.data && (
          <Kind
            title="Tokens of programs"
            list={list.data.filter((t) => t.kind === 'bearer')}
            all={all}
            empty={
              <Empty
                title="No program has a token"
                command="undersail tokens add nightly-checks --role viewer --for 90d"
              >
                One allows no more than its owner may, and has an end.
              </Empty>
            }
          />
        )}
        <Standing />
        {list.data && (
          <Kind
            title="Sessions"
            list={list.data.filter((t) => t.kind === 'session')}
            all={all}
            empty={<Empty title="Nobody is signed in" />}
          />
        )}
      </div>
    </>
  )
}

/** What is done in one's name when nobody does it, and the one place to take it back. */
function Standing() {
  const client = useQueryClient()
  const list = useQuery({ queryKey: ['agreements'], queryFn: () => unwrap(api.GET('/api/v1/agreements')) })
  const end = useMutation({
    mutationFn: (id: number) => unwrap(api.DELETE('/api/v1/agreements/{id}', { params: { path: { id } } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['agreements'] }),
  })
  return (
    <Sheet title="Done by itself" note="in the name of whoever agreed to it" pad={false}>
      {(list.isError || end.isError) && (
        <div className="p-3">
          <Trouble error={list.error ?? end.error} />
        </div>
      )}
      {list.data?.length === 0 && (
        <Empty title="Nothing is done in your name by itself" command="undersail accept ID --on-failure undo">
          An agreement holds until its end, and until it is taken back.
        </Empty>
      )}
      {list.data && list.data.length > 0 && (
        <table className="w-full">
          <thead>
            <tr>
              <th>What</th>
              <th>Stack</th>
              <th className="max-md:hidden">Agreed by</th>
              <th className="max-md:hidden">Until</th>
              <th className="w-[110px]">
                <span className="sr-only">What to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((a) => (
              <tr key={a.id}>
                <td className="font-semibold">
                  {a.kind === 'undo' ? 'undo the run if it fails' : a.kind}{' '}
                  <Link className="font-normal" to={`/proposals/${a.proposal}`}>
                    proposal {a.proposal}
                  </Link>
                </td>
                <td>
                  <Link to={`/stacks/${a.stack}`}>{a.stack}</Link>
                </td>
                <td className="max-md:hidden">{a.giver}</td>
                <td className="max-md:hidden text-ink-2">{moment(a.ends_at)}</td>
                <td className="text-right">
                  <Confirm
                    title="Take it back?"
                    trigger={<Button small>Take back</Button>}
                    action={
                      <Button kind="danger" onClick={() => end.mutate(a.id)}>
                        Take it back
                      </Button>
                    }
                  >
                    What is under way is finished. Nothing more is begun by it: a person decides then.
                  </Confirm>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  )
}

function Kind({ title, list, all, empty }: { title: string; list: Token[]; all: boolean; empty: React.ReactNode }) {
  const now = useNow(10_000)
  const client = useQueryClient()
  const revoke = useMutation({
    mutationFn: (id: number) => unwrap(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['tokens'] }),
  })
  return (
    <Sheet title={title} note={`${list.length}`} pad={false}>
      {revoke.isError && (
        <div className="p-3">
          <Trouble error={revoke.error} />
        </div>
      )}
      {list.length === 0 && empty}
      {list.length > 0 && (
        <table className="w-full table-fixed max-md:table-auto">
          <thead>
            <tr>
              <th>For</th>
              {all && <th className="w-[120px]">Owner</th>}
              <th className="max-md:hidden w-[25%]">Roles</th>
              <th className="w-[130px]">Ends</th>
              <th className="w-[130px]">Last used</th>
              <th className="max-md:hidden w-[140px]">From</th>
              <th className="w-[100px]">
                <span className="sr-only">What to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.map((t) => (
              <tr key={t.id}>
                <td className="font-semibold">
                  {t.about}
                  {t.this && <span className="ml-1.5 font-normal text-ink-2">(this one)</span>}
                </td>
                {all && <td>{t.owner}</td>}
                <td className="max-md:hidden h-auto py-1 whitespace-normal text-ink-2">
                  {t.roles ? roleText(t.roles) : 'all of the owner’s'}
                </td>
                <td title={moment(t.expires_at)}>{until(t.expires_at, now)}</td>
                <td className="text-ink-2" title={moment(t.used_at)}>
                  {t.kind === 'bearer' && !t.used_from ? 'not yet' : ago(t.used_at, now)}
                </td>
                <td className="max-md:hidden font-mono text-small text-ink-2">{t.used_from || '–'}</td>
                <td className="text-right">
                  <Confirm
                    title={`End ${t.about}?`}
                    trigger={<Button small>{t.kind === 'bearer' ? 'Revoke' : 'End'}</Button>}
                    action={
                      <Button kind="danger" onClick={() => revoke.mutate(t.id)}>
                        End it
                      </Button>
                    }
                  >
                    At once, with every stream that it holds open. {t.this && 'You will have to sign in again.'}
                  </Confirm>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  )
}

function Add() {
  const client = useQueryClient()
  const add = useMutation({
    mutationFn: (body: Schemas['NewToken']) => unwrap(api.POST('/api/v1/tokens', { body })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['tokens'] }),
  })
  return (
    <PanelForm
      title="A token for a program"
      trigger="Make a token"
      about="It allows no more than you may; what you lose it loses too."
      submit="Make it"
      sending={add}
      values={{ about: '', roles: '', days: '90' }}
      onSend={(v) => {
        const roles = v.roles.split(/[\s,]+/).filter((r) => r !== '')
        add.mutate({
          about: v.about,
          seconds: Math.round(Number(v.days) * 86_400),
          ...(roles.length > 0 ? { roles } : {}),
        })
      }}
      shown={
        add.data
          ? (close) => (
              <div role="status">
                <p>
                  The token for {add.data.about} ends {moment(add.data.expires_at)}. It is shown only here.
                </p>
                <div className="mt-2 [overflow-wrap:anywhere]">
                  <Command text={add.data.value} />
                </div>
                <div className="mt-4 flex justify-end">
                  <Button onClick={close}>Done</Button>
                </div>
              </div>
            )
          : undefined
      }
    >
      <Field label="For" name="about" note="the program that has it, such as nightly-checks" required />
      <Field label="Roles" name="roles" note="such as operator@saltmere-lab; all of yours when left empty" />
      <Field label="Days" name="days" note="at most 366" required />
    </PanelForm>
  )
}

function ChangePassword() {
  const change = useMutation({
    mutationFn: (body: Schemas['PasswordChange']) => unwrap(api.PUT('/api/v1/me/password', { body })),
  })
  return (
    <PanelForm
      title="Change your password"
      trigger="Change password"
      about="Every other session of yours ends."
      submit="Change it"
      sending={change}
      values={{ before: '', after: '' }}
      onSend={(v) => change.mutate(v)}
      shown={
        change.isSuccess
          ? (close) => (
              <div role="status">
                <p>The password is changed.</p>
                <div className="mt-4 flex justify-end">
                  <Button onClick={close}>Done</Button>
                </div>
              </div>
            )
          : undefined
      }
    >
      <Field label="The one of now" name="before" secret required />
      <Field
        label="A new one"
        name="after"
        note="12 characters or more; some words that nobody would say together"
        secret
        required
      />
    </PanelForm>
  )
}
