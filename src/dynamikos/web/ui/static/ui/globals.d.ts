// What the vendored scripts put into the page, for those who check types; never sent to a browser.
declare const uPlot: any;
interface Window {
  htmx: any;
  Alpine: any;
  codemirror: any;
}
declare const htmx: any;
