// Whether somebody has come to the page shown from another one, and not by loading it.

let first = true;

/** Says that the page shown has changed. The router calls it. */
export function noteNavigation() {
  first = false;
}

export const navigated = () => !first;
