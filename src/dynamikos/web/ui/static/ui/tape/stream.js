// Follows a run by server-sent events; a hidden page closes its stream and goes on where it was.

/**
 * @param {string} address @param {{last: string | number, over: boolean}} from where to go on
 * @param {{frame: (frame: any[]) => void, log: (words: string) => void, changed: () => void}} tell
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
    stream.addEventListener("frame", (event) => {
      heard(event);
      tell.frame(JSON.parse(event.data));
    });
    stream.addEventListener("state", (event) => {
      heard(event);
      tell.changed();
    });
    stream.addEventListener("log", (event) => {
      heard(event);
      tell.log(event.data);
    });
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
