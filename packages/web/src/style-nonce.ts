/**
 * The page's security policy admits inline styles only with its nonce. Ant Design Vue writes its styles at run time
 * without passing one on, so style elements that scripts create get it here. Markup cannot profit from this: an
 * element that the parser makes never comes through `createElement`.
 */
export function giveStylesNonce(): void {
  const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce
  if (!nonce) return
  const create = document.createElement.bind(document)
  document.createElement = ((name: string, options?: ElementCreationOptions) => {
    const element = create(name, options)
    if (element instanceof HTMLStyleElement) element.nonce = nonce
    return element
  }) as typeof document.createElement
}
