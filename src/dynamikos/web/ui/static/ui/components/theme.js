// Buttons of the spine: paper or night, kept in a cookie, so that the server makes the page in it; the command field.
export const theme = () => ({
  change() {
    const other = document.documentElement.dataset.theme === "night" ? "paper" : "night";
    document.cookie = `dynamikos-theme=${other};path=/;max-age=31536000;samesite=lax`;
    location.reload();
  },
});

export const opener = () => ({
  open() {
    dispatchEvent(new Event("command-field"));
  },
});
