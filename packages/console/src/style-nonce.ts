/**
 * The page's security policy lets in style elements that carry its nonce. The component library and the editor make theirs at
 * run time and know nothing of it, so that every style element gets it when it is made.
 */
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
