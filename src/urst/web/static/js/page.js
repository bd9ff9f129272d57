// Elements of the page, by what they are.

/**
 * The element of an id, which the page has.
 * @param {string} id
 */
export const byId = id => /** @type {HTMLElement} */ (document.getElementById(id));

/** @param {string} id */
export const button = id => /** @type {HTMLButtonElement} */ (document.getElementById(id));

/** @param {string} id */
export const input = id => /** @type {HTMLInputElement} */ (document.getElementById(id));

/** @param {string} id */
export const menu = id => /** @type {HTMLSelectElement} */ (document.getElementById(id));

/** @param {string} id */
export const form = id => /** @type {HTMLFormElement} */ (document.getElementById(id));

/**
 * A field of a form, by its name.
 * @param {HTMLFormElement} of
 * @param {string} name
 */
export const field = (of, name) => /** @type {HTMLInputElement} */ (of.elements.namedItem(name));

/**
 * What an event came to.
 * @param {Event} event
 */
export const target = event => /** @type {HTMLElement} */ (event.target);

/**
 * The first element that a selector finds, which is there.
 * @param {string} selector
 * @param {ParentNode} [within]
 */
export const first = (selector, within = document) => /** @type {HTMLElement} */ (within.querySelector(selector));

/**
 * All elements that a selector finds.
 * @param {string} selector
 * @param {ParentNode} [within]
 */
export const all = (selector, within = document) => /** @type {NodeListOf<HTMLElement>} */ (within.querySelectorAll(selector));
