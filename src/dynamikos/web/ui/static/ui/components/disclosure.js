// A button that unfolds something elsewhere, which `data-target` names.
export const disclosure = () => ({
  isOpen: false,
  get target() {
    return document.getElementById(this.$root.dataset.target);
  },
  get expanded() {
    return String(this.isOpen);
  },
  init() {
    this.isOpen = !this.target.hidden;
  },
  toggle() {
    this.isOpen = this.target.hidden;
    this.target.hidden = !this.isOpen;
  },
});
