import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { Field, PanelForm } from '../parts/form'
import { useNow } from '../parts/now'
import { Button, Command, Confirm, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { ago, moment, until } from '../parts/words'

type Person = Schemas['Person']

const says: Record<string, string> = {
  viewer: 'reads',
  operator: 'proposes, applies, connects to machines',
  reviewer: 'accepts and refuses proposals',
  keeper: 'publishes templates and policies',
  admin: 'all of that, and accounts and people',
}

export default function PeoplePage() {
  const list = useQuery({ queryKey: ['users'], queryFn: () => unwrap(api.GET('/api/v1/users')) })
  const me = useMe()
  const now = useNow(10_000)
  const [chosen, setChosen] = useState<string | null>(null)
  const admin = me.data?.may?.includes('administer') ?? false
  const shown = list.data?.find((p) => p.name === chosen) ?? list.data?.[0]
  return (
    <>
      <PageTitle side={admin && <Invite onDone={setChosen} />}>People</PageTitle>
      {list.isError && <Trouble error={list.error} retry={() => void list.refetch()} />}
      {list.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {shown && (
        <div className="grid items-start gap-3 xl:grid-cols-[1.3fr_1fr]">
          <div className="min-w-0 space-y-3">
            <Sheet pad={false}>
              <table className="w-full">
                <thead>
                  <tr>
                    <th>Name</th>
                    <th className="max-md:hidden">Called</th>
                    <th>Roles</th>
                    <th>State</th>
                    <th className="max-md:hidden">Last sign-in</th>
                  </tr>
                </thead>
                <tbody>
                  {list.data?.map((p) => (
                    <tr
                      key={p.name}
                      className={`row-link cursor-pointer ${p.name === shown.name ? 'bg-accent-soft' : ''}`}
                      onClick={() => setChosen(p.name)}
                    >
                      <td>
                        <button type="button" className="font-semibold" aria-pressed={p.name === shown.name}>
                          {p.name}
                        </button>
                      </td>
                      <td className="max-md:hidden">{p.full_name || '–'}</td>
                      <td className="h-auto py-1 whitespace-normal">
                        <Roles roles={p.roles} />
                      </td>
                      <td>
                        <Standing p={p} />
                      </td>
                      <td className="max-md:hidden text-ink-2">
                        {p.signed_in_at ? ago(p.signed_in_at, now) : 'never'}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Sheet>
            <Sheet title="What roles allow" note="for the whole service, or in one account" pad={false}>
              <table className="w-full">
                <tbody>
                  {Object.entries(says).map(([role, words]) => (
                    <tr key={role}>
                      <td className="w-[110px] font-semibold">{role}</td>
                      <td className="h-auto py-1 whitespace-normal text-ink-2">{words}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </Sheet>
          </div>
          <One key={shown.name} p={shown} admin={admin} myself={shown.name === me.data?.name} now={now} />
        </div>
      )}
    </>
  )
}

/** Roles one to a line; those in one account say where. */
function Roles({ roles }: { roles: string[] }) {
  if (roles.length === 0) return <span className="text-ink-2">none</span>
  return (
    <ul>
      {roles.map((r) => {
        const [role, account] = r.split('@')
        return (
          <li key={r}>
            {role}
            {account && <span className="text-ink-2"> in {account}</span>}
          </li>
        )
      })}
    </ul>
  )
}

const marks = { active: '●', invited: '◌', disabled: '✕' } as Record<string, string>

/** Told by shape and word: who is in, who has not come yet, who is kept out. */
function Standing({ p }: { p: Person }) {
  const tone = p.state === 'disabled' ? 'text-bad' : p.state === 'invited' ? 'text-ink-2' : 'text-[var(--healthy)]'
  return (
    <span className="whitespace-nowrap">
      <span aria-hidden="true" className={`mr-1.5 ${tone}`}>
        {marks[p.state]}
      </span>
      {p.state}
    </span>
  )
}

function One({ p, admin, myself, now }: { p: Person; admin: boolean; myself: boolean; now: number }) {
  const client = useQueryClient()
  const refresh = () => void client.invalidateQueries({ queryKey: ['users'] })
  const path = { params: { path: { name: p.name } } }
  const change = useMutation({
    mutationFn: (body: Schemas['PersonChange']) => unwrap(api.PATCH('/api/v1/users/{name}', { ...path, body })),
    onSuccess: refresh,
  })
  const link = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/users/{name}/link', path)),
    onSuccess: refresh,
  })
  const out = useMutation({
    mutationFn: () => unwrap(api.DELETE('/api/v1/users/{name}/sessions', path)),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['tokens'] }),
  })
  const local = p.signs_in_by === 'password'
  const pipeline = p.signs_in_by === 'pipeline'
  return (
    <Sheet title={p.name} note={p.full_name}>
      <Facts>
        <Fact
          value={local ? 'a password' : pipeline ? 'a token of its provider' : 'OpenID Connect'}
          label="signs in by"
        />
        <Fact value={p.signed_in_at ? ago(p.signed_in_at, now) : 'never'} label="last sign-in" />
      </Facts>
      <ul className="mt-3 space-y-1 text-small text-ink-2">
        <li>
          made {moment(p.created_at)}
          {p.made_by && ` by ${p.made_by}`}
        </li>
        {p.invited_until && <li>an unused link ends {until(p.invited_until, now)}</li>}
        {pipeline && <li>whoever runs the service gives its roles, where it names the pipelines</li>}
        {!local && !pipeline && <li>the groups that the provider tells give the roles, at each sign-in</li>}
      </ul>
      {[change, link, out].map(
        (m, i) =>
          m.isError && (
            <div key={i} className="mt-3">
              <Trouble error={m.error} />
            </div>
          ),
      )}
      {out.isSuccess && (
        <p role="status" className="mt-3">
          All sessions of {p.name} have ended.
        </p>
      )}
      {link.data && <Link i={link.data} />}
      {(admin || myself) && (
        <div className="mt-4 flex flex-wrap justify-end gap-2">
          <Confirm
            title={`End all sessions of ${p.name}?`}
            trigger={<Button>Sign out everywhere</Button>}
            action={
              <Button kind="danger" onClick={() => out.mutate()}>
                Sign out everywhere
              </Button>
            }
          >
            In browsers and terminals. Tokens of programs stay.
          </Confirm>
          {admin && local && p.state !== 'disabled' && (
            <Button onClick={() => link.mutate()} disabled={link.isPending}>
              New link
            </Button>
          )}
          {admin && local && <ChangeRoles p={p} />}
          {admin &&
            !myself &&
            (p.state === 'disabled' ? (
              <Button onClick={() => change.mutate({ disabled: false })}>Let in again</Button>
            ) : (
              <Confirm
                title={`Keep ${p.name} out?`}
                trigger={<Button kind="danger">Disable</Button>}
                action={
                  <Button kind="danger" onClick={() => change.mutate({ disabled: true })}>
                    Disable
                  </Button>
                }
              >
                Every session and token of theirs ends at once. What they did stays in the audit, and their runs go on.
              </Confirm>
            ))}
        </div>
      )}
    </Sheet>
  )
}

function Link({ i }: { i: Schemas['Invitation'] }) {
  return (
    <div role="status" className="mt-3 rounded-sheet border border-accent bg-accent-soft px-3.5 py-2">
      <p>
        This link sets a password for {i.person.name}, once, until {moment(i.expires_at)}. It is shown only here: hand
        it over on a way that only they read.
      </p>
      <div className="mt-1.5 [overflow-wrap:anywhere]">
        <Command text={i.link} />
      </div>
    </div>
  )
}

const rolesOf = (text: string) => text.split(/[\s,]+/).filter((r) => r !== '')
const rolesNote = 'such as viewer operator@saltmere-lab; with blanks between them'

function Invite({ onDone }: { onDone: (name: string) => void }) {
  const client = useQueryClient()
  const invite = useMutation({
    mutationFn: (body: Schemas['NewPerson']) => unwrap(api.POST('/api/v1/users', { body })),
    onSuccess: (i) => {
      void client.invalidateQueries({ queryKey: ['users'] })
      onDone(i.person.name)
    },
  })
  return (
    <PanelForm
      title="Invite somebody"
      trigger="Invite"
      about="They set a password by a link that works once."
      submit="Make the link"
      sending={invite}
      values={{ name: '', full_name: '', roles: 'viewer' }}
      onSend={(v) => invite.mutate({ name: v.name, full_name: v.full_name, roles: rolesOf(v.roles) })}
      shown={
        invite.data
          ? (close) => (
              <>
                <Link i={invite.data} />
                <div className="mt-4 flex justify-end">
                  <Button onClick={close}>Done</Button>
                </div>
              </>
            )
          : undefined
      }
    >
      <Field label="Name" name="name" note="small letters, digits, dots and hyphens" required />
      <Field label="Called" name="full_name" />
      <Field label="Roles" name="roles" note={rolesNote} required />
    </PanelForm>
  )
}

function ChangeRoles({ p }: { p: Person }) {
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: (roles: string[]) =>
      unwrap(api.PATCH('/api/v1/users/{name}', { params: { path: { name: p.name } }, body: { roles } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['users'] }),
  })
  return (
    <PanelForm
      title={`Roles of ${p.name}`}
      trigger="Change roles"
      about="In the place of those of now, at once."
      submit="Give these"
      sending={change}
      values={{ roles: p.roles.join(' ') }}
      onSend={(v, close) => change.mutate(rolesOf(v.roles), { onSuccess: close })}
    >
      <Field label="Roles" name="roles" note={rolesNote} required />
    </PanelForm>
  )
}
