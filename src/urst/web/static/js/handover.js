// Says why a hand-over was refused.
document.body.addEventListener('htmx:afterRequest', event => {
  if (!event.target.matches('[data-reload]')) return;
  const fault = document.getElementById('handover-fault');
  fault.textContent = event.detail.successful ? '' : JSON.parse(event.detail.xhr.responseText).message;
});
