const said = (name: string) => document.querySelector<HTMLMetaElement>(`meta[name="${name}"]`)

/** Whether the page came with a session; without one there is no use in asking who it is. */
export const hasSession = (): boolean => said('session')?.content !== 'none'

/** Whether people may sign in by an OpenID provider. */
export const offersOpenID = (): boolean => said('openid')?.content === 'there'

/** Notes that somebody signed in since the page was loaded. */
export const noteSession = () => {
  const m = said('session')
  if (m) m.content = 'there'
}

/** The nonce of this page, by which the browser accepts styles that scripts insert. */
export const nonce = (): string => said('style-nonce')?.content ?? ''
