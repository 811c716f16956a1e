import { setNonce as set } from 'get-nonce';

/**
 * Hands the page's nonce to the dialogs: they put a style element into the page
 * while they are open, which the Content-Security-Policy allows by nonce alone.
 */
export function setNonce() {
  const nonce = document.querySelector('meta[name="csp-nonce"]')?.getAttribute('content');
  if (nonce) set(nonce);
}
