// Words that come up over the page and go by themselves.

/**
 * @param {string} text
 * @param {{ text: string, href: string } | null} [link] a file that is offered; it stays longer
 * @param {boolean} [lasts] stays until it is taken away
 */
export function toast(text, link = null, lasts = false) {
  document.querySelector('.toast')?.remove();
  const node = document.createElement('div');
  node.className = 'toast';
  node.setAttribute('role', 'alert');
  node.textContent = text;
  if (link) {
    const offered = Object.assign(document.createElement('a'), { textContent: link.text, href: link.href, className: 'ml-2' });
    offered.setAttribute('download', '');
    node.append(offered);
  }
  document.body.append(node);
  if (!lasts) setTimeout(() => node.remove(), link ? 20000 : 7000);
  return node;
}
