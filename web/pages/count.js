// Counts the waits on the page down. Without it the page says how long they are from its loading.
for (const at of document.querySelectorAll("[data-count]")) {
  const end = Date.now() + 1000 * Number(at.dataset.count);
  const tick = () => {
    const left = Math.max(0, Math.ceil((end - Date.now()) / 1000));
    const two = (n) => String(n % 60).padStart(2, "0");
    const hours = Math.floor(left / 3600), minutes = Math.floor(left / 60);
    at.textContent = (hours ? hours + ":" + two(minutes) : minutes) + ":" + two(left);
    if (left > 0) return setTimeout(tick, 250);
    const line = at.closest("[data-until]");
    if (line) line.hidden = true;
  };
  tick();
}
