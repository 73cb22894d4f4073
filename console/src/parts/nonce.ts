/** The nonce of this page, by which the browser accepts styles that scripts insert. */
export const nonce = (): string => document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? ''
