// What became of a form that was sent: kept, refused, too late, or to be sent again.
import { formKey } from "../dom.js";
import { dirty, isKnown, isSent, saveAgain, tab } from "./forms.js";
import { keepRefused } from "./refused.js";
import { forget, remember } from "./remembering.js";

document.addEventListener("htmx:config:request", (/** @type {any} */ event) => {
  if (!event.detail.ctx) return;
  Object.assign(event.detail.ctx.request.headers, { "X-CSRFToken": formKey(), "X-Tab": tab });
});

const formOf = (event) => {
  const form = event.detail.ctx && event.detail.ctx.sourceElement;
  return form && isKnown(form) ? form : null;
};

document.addEventListener("htmx:after:request", (/** @type {any} */ event) => {
  const form = formOf(event);
  if (!form) return;
  const { response } = event.detail.ctx;
  const status = response ? response.status : 0;
  if (status >= 200 && status < 400) {
    if (isSent(form)) dirty.delete(form);
    forget(form);
  } else if (status === 409) {
    dirty.delete(form); // leaving must not send it once more, over what somebody else had kept
    setTimeout(keepRefused, 0);
  } else if (status === 422) {
    remember(form); // can't be kept by the server yet: it survives a reload all the same
  } else if (!status || status >= 500) saveAgain(form);
});
document.addEventListener("htmx:error", (event) => {
  const form = formOf(event);
  if (form) saveAgain(form);
});
