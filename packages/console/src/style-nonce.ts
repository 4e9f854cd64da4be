/**
 * Gives every style element the nonce of the page's content security policy. The component library and the editor create
 * style elements at run time and do not know the nonce.
 */
export function addNonceToStyles(): void {
  const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.content;
  const createElement = document.createElement.bind(document) as (
    name: string,
    options?: ElementCreationOptions,
  ) => HTMLElement;
  document.createElement = ((name: string, options?: ElementCreationOptions) => {
    const element = createElement(name, options);
    if (nonce && element instanceof HTMLStyleElement) element.nonce = nonce;
    return element;
  }) as Document['createElement'];
}
