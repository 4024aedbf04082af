// Lanes of what probes told: which are shown, what they hold, and what is said beside them.
import { three } from "./figures.js";

/**
 * @typedef {Object} Lane
 * @property {string} key @property {string} title @property {string} unit
 * @property {[number, string][]} lines number and label of each
 */

export class Measures {
  /**
   * @param {{lanes: Lane[], shown: string[], traces: {at: number[], values: Object<string, any[]>}}} given
   * @param {string} address where more lines come from
   */
  constructor(given, address) {
    this.lanes = given.lanes;
    this.address = address;
    this.seconds = given.traces.at;
    this.values = given.traces.values;
    this.shown = new Set(remembered(this.lanes) || given.shown);
  }

  shownLanes() {
    return this.lanes.filter((lane) => this.shown.has(lane.key));
  }

  /** @param {Lane} lane */
  async ask(lane) {
    const missing = lane.lines.map(([no]) => no).filter((no) => !(no in this.values));
    if (!missing.length) return;
    const answer = await fetch(`${this.address}?${missing.map((no) => `no=${no}`).join("&")}`);
    if (!answer.ok) return;
    const found = await answer.json();
    for (const no of missing) {
      const line = found.values[no] || [];
      const places = new Map(found["at"].map((second, place) => [second, line[place]]));
      this.values[no] = this.seconds.map((second) => places.get(second) ?? null);
    }
  }

  async show(key) {
    this.shown.add(key);
    remember([...this.shown]);
    await this.ask(this.lanes.find((lane) => lane.key === key));
  }

  hide(key) {
    this.shown.delete(key);
    remember([...this.shown]);
  }

  ready() {
    return Promise.all(this.shownLanes().map((lane) => this.ask(lane)));
  }

  /** @param {Lane} lane @returns {any[][]} */
  data(lane) {
    return [this.seconds, ...lane.lines.map(([no]) => this.values[no] || this.seconds.map(() => null))];
  }

  /** Whether every measure of what was told has its lane. */
  knows(told) {
    const known = new Set(this.lanes.flatMap((lane) => lane.lines.map(([no]) => String(no))));
    return Object.keys(told).every((no) => known.has(no));
  }

  add(second, told) {
    if (this.seconds.length && second <= this.seconds[this.seconds.length - 1]) return;
    this.seconds.push(second);
    for (const no of Object.keys(this.values)) this.values[no].push(told[no] ?? null);
  }

  /** @param {Lane} lane @param {number} second @returns {string} its figures then */
  says(lane, second) {
    let place = this.seconds.length - 1;
    while (place > 0 && this.seconds[place] > second) place--;
    const said = lane.lines.map(([no, label]) => {
      const value = this.values[no] && lastBefore(this.values[no], place);
      const figure = value == null ? "–" : three(value) + (lane.unit ? ` ${lane.unit}` : "");
      return label ? `${label} ${figure}` : figure;
    });
    return said.join(" · ");
  }
}

const lastBefore = (values, place) => {
  for (let near = place; near >= Math.max(0, place - 5); near--) if (values[near] != null) return values[near];
  return null;
};

const KEY = "dynamikos-lanes";
const remembered = (lanes) => {
  try {
    const kept = JSON.parse(localStorage.getItem(KEY));
    return Array.isArray(kept) && lanes.some((lane) => kept.includes(lane.key)) ? kept : null;
  } catch {
    return null;
  }
};
const remember = (keys) => {
  try {
    localStorage.setItem(KEY, JSON.stringify(keys));
  } catch {
    // it is not remembered, then
  }
};
