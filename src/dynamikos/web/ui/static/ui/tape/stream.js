// Follows a run by server-sent events; a hidden page closes its stream and goes on where it was.

/**
 * @param {string} address @param {{last: string | number, over: boolean}} from where to go on
 * @param {Object<string, (told?: any) => void>} tell by event what to do
 * @param {HTMLElement} lost shown while the connection is away
 */
export const follow = (address, from, tell, lost) => {
  let stream = null;
  let { last, over } = from;
  const heard = (event) => {
    last = event.lastEventId.split(".").pop();
  };
  const open = () => {
    if (over || document.hidden) return;
    stream = new EventSource(`${address}?after=x.${last}`);
    stream.onopen = () => (lost.hidden = true);
    stream.onerror = () => (lost.hidden = over);
    const on = (name, told) =>
      stream.addEventListener(name, (event) => {
        heard(event);
        tell[told.name](told.of(event.data));
      });
    for (const name of ["frame", "probes", "remark", "findings"]) on(name, { name, of: JSON.parse });
    on("state", { name: "changed", of: () => undefined });
    on("log", { name: "log", of: (words) => words });
    stream.addEventListener("end", () => {
      over = true;
      stream.close();
      lost.hidden = true;
      tell.changed();
    });
  };
  document.addEventListener("visibilitychange", () => {
    if (stream) stream.close();
    stream = null;
    open();
  });
  open();
};
