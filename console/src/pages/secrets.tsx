import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, unwrap, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { Field, Only, PanelForm } from '../parts/form'
import { Reveal } from '../parts/reveal'
import { Button, Confirm, Empty, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { moment } from '../parts/words'

type Named = Schemas['NamedSecret']

const words = { secret: 'secret', key_pair: 'key pair', public_key: 'public half of a key' }

export default function SecretsPage() {
  const list = useQuery({ queryKey: ['secrets'], queryFn: () => unwrap(api.GET('/api/v1/secrets')) })
  const me = useMe()
  const [chosen, setChosen] = useState<string | null>(null)
  const may = me.data?.may?.includes('operate') ?? false
  const shown = list.data?.find((n) => n.name === chosen) ?? list.data?.[0]
  return (
    <>
      <PageTitle
        side={
          may && (
            <div className="flex gap-2">
              <Make />
              <Import />
            </div>
          )
        }
      >
        Secrets and keys
      </PageTitle>
      {list.isError && <Trouble error={list.error} retry={() => void list.refetch()} />}
      {list.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {list.data?.length === 0 && (
        <Sheet>
          <Empty title="No secret stands for itself yet" command="undersail secrets make db-password --length 24">
            Those of stacks are on the pages of their stacks. Make one here, and give it to an input as secret:NAME.
          </Empty>
        </Sheet>
      )}
      {shown && (
        <div className="grid items-start gap-3 lg:grid-cols-[1.2fr_1fr]">
          <Sheet pad={false}>
            <table className="w-full">
              <thead>
                <tr>
                  <th>Name</th>
                  <th>Kind</th>
                  <th>Version</th>
                  <th className="max-md:hidden">By</th>
                  <th>Used by</th>
                </tr>
              </thead>
              <tbody>
                {list.data?.map((n) => (
                  <tr
                    key={n.name}
                    className={`row-link cursor-pointer ${n.name === shown.name ? 'bg-accent-soft' : ''}`}
                    onClick={() => setChosen(n.name)}
                  >
                    <td>
                      <button type="button" className="font-semibold" aria-pressed={n.name === shown.name}>
                        {n.name}
                      </button>
                    </td>
                    <td className="text-ink-2">{words[n.kind]}</td>
                    <td>{n.version}</td>
                    <td className="max-md:hidden text-ink-2">{n.versions[0]?.given_by}</td>
                    <td>{uses(n) || <span className="text-ink-2">nobody</span>}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Sheet>
          <One key={shown.name} n={shown} may={may} />
        </div>
      )}
    </>
  )
}

const uses = (n: Named) =>
  n.versions
    .flatMap((v) => v.uses.map((u) => (v.version === n.version ? u.stack : `${u.stack} (@${v.version})`)))
    .join(', ')

function One({ n, may }: { n: Named; may: boolean }) {
  const client = useQueryClient()
  const refresh = () => void client.invalidateQueries({ queryKey: ['secrets'] })
  const rotate = useMutation({
    mutationFn: () =>
      unwrap(
        api.POST('/api/v1/secrets', {
          body: { name: n.name, kind: n.kind === 'secret' ? 'secret' : 'key_pair', rotate: true },
        }),
      ),
    onSuccess: refresh,
  })
  const remove = useMutation({
    mutationFn: () => unwrap(api.DELETE('/api/v1/secrets/{secret}', { params: { path: { secret: n.name } } })),
    onSuccess: refresh,
  })
  const used = n.versions.some((v) => v.uses.length > 0)
  return (
    <Sheet title={n.name} note={n.about}>
      <p className="text-ink-2">
        An input takes it as{' '}
        <code className="font-mono text-small text-ink">
          {n.kind === 'secret' ? 'secret' : 'key'}:{n.name}
        </code>
      </p>
      {n.public && (
        <pre className="mt-2 overflow-auto rounded-[6px] border border-line bg-paper p-2 font-mono text-small">
          {n.public}
        </pre>
      )}
      <table className="mt-3 w-full">
        <thead>
          <tr>
            <th className="pl-0">Version</th>
            <th>From</th>
            <th>By</th>
            <th>Since</th>
            <th>Used by</th>
          </tr>
        </thead>
        <tbody>
          {n.versions.map((v) => (
            <tr key={v.version}>
              <td className="pl-0 font-semibold">{v.version}</td>
              <td className="text-ink-2">{v.from}</td>
              <td className="text-ink-2">{v.given_by}</td>
              <td className="text-ink-2">{moment(v.given_at)}</td>
              <td>
                {v.uses.length === 0
                  ? '–'
                  : v.uses.map((u) => (
                      <Link key={u.stack + u.input} className="mr-2" to={`/stacks/${u.stack}`}>
                        {u.stack}
                      </Link>
                    ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rotate.isError && (
        <div className="mt-3">
          <Trouble error={rotate.error} />
        </div>
      )}
      {remove.isError && (
        <div className="mt-3">
          <Trouble error={remove.error} />
        </div>
      )}
      {may && (
        <div className="mt-4 flex flex-wrap justify-end gap-2">
          {!used && (
            <Confirm
              title={`Forget ${n.name}?`}
              trigger={<Button kind="danger">Forget it</Button>}
              action={
                <Button kind="danger" onClick={() => remove.mutate()}>
                  Forget it
                </Button>
              }
            >
              All its versions are forgotten. No stack uses it.
            </Confirm>
          )}
          {n.kind !== 'public_key' && (
            <Button onClick={() => rotate.mutate()} disabled={rotate.isPending}>
              Make the next version
            </Button>
          )}
          {n.kind !== 'public_key' && (
            <Reveal what={n.name} asked={{ reference: n.name }} trigger={<Button>Reveal</Button>} />
          )}
        </div>
      )}
      {n.versions.some((v) => v.version !== n.version && v.uses.length > 0) && (
        <p className="mt-3 text-small text-ink-2">
          Stacks at an older version move by a proposal: undersail secrets rotate {n.name} --propose, or give the input
          anew.
        </p>
      )}
    </Sheet>
  )
}

function useSealed() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['NewSecret']) => unwrap(api.POST('/api/v1/secrets', { body })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['secrets'] }),
  })
}

function Make() {
  const make = useSealed()
  return (
    <PanelForm
      title="Make a secret or a key pair"
      trigger="Make"
      about="It is drawn by the service and sealed; nobody has to see it."
      submit="Make it"
      sending={make}
      values={{ name: '', kind: 'secret' as 'secret' | 'key_pair', length: '20', about: '' }}
      onSend={(v, close) =>
        make.mutate(
          {
            name: v.name,
            kind: v.kind,
            about: v.about || undefined,
            rules: v.kind === 'secret' && Number(v.length) > 0 ? { length: Number(v.length) } : undefined,
          },
          { onSuccess: close },
        )
      }
    >
      <Field label="Name" name="name" required />
      <Field
        label="Kind"
        name="kind"
        choices={[
          ['secret', 'secret'],
          ['key_pair', 'SSH key pair (Ed25519)'],
        ]}
      />
      <Only when="kind" is="secret">
        <Field label="Least length" name="length" />
      </Only>
      <Field label="About" name="about" note="what it is for" />
    </PanelForm>
  )
}

function Import() {
  const keep = useSealed()
  return (
    <PanelForm
      title="Keep what somebody else made"
      trigger="Import"
      about="It is sealed as it comes in; of a key only the public half is asked for."
      submit="Seal it"
      sending={keep}
      values={{ name: '', kind: 'secret' as 'secret' | 'key_pair', value: '', about: '' }}
      onSend={(v, close) =>
        keep.mutate(
          {
            name: v.name,
            kind: v.kind,
            about: v.about || undefined,
            ...(v.kind === 'key_pair' ? { public: v.value } : { value: v.value }),
          },
          { onSuccess: close },
        )
      }
    >
      <Field label="Name" name="name" required />
      <Field
        label="Kind"
        name="kind"
        choices={[
          ['secret', 'secret'],
          ['key_pair', 'public half of a key'],
        ]}
      />
      <Field label="Secret, or public half" name="value" secret required />
      <Field label="About" name="about" note="what it is for" />
    </PanelForm>
  )
}
