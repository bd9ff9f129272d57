// Light or dark, kept in a cookie so that the server draws the right one at once.
for (const button of document.querySelectorAll('[data-theme-switch]')) {
  button.addEventListener('click', () => {
    const next = document.documentElement.dataset.theme === 'soot' ? 'plaster' : 'soot';
    document.documentElement.dataset.theme = next;
    document.cookie = `theme=${next}; path=/; max-age=31536000; samesite=strict`;
  });
}
for (const input of /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll('[data-submit]'))) input.addEventListener('change', () => input.form?.submit());
for (const form of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll('[data-confirm]'))) {
  form.addEventListener('submit', event => { if (!confirm(form.dataset.confirm)) event.preventDefault(); });
}
