// Figures and names as the pages write them.

/** A share of a whole: whole percent, or two digits where it is small. */
export const percent = (share) => `${Math.abs(share) < 0.095 ? Number((share * 100).toPrecision(2)) : Math.round(share * 100)} %`;

/** A share as cards write it, to a tenth of a percent. */
export const percentToTenth = (share) => (share == null ? "–" : `${(share * 100).toFixed(1)} %`);

export const inSeconds = (seconds) => `${seconds < 10 ? seconds.toFixed(seconds < 1 ? 2 : 1) : Math.round(seconds)} s`;

/** A time that is only known roughly. */
export const roughly = (seconds) =>
  seconds < 10 ? `${seconds.toPrecision(2)} s` : seconds < 90 ? `${Math.round(seconds)} s` : `${Math.round(seconds / 60)} min`;

export const inStops = (stops) => (stops > 0 ? "+" : stops < 0 ? "−" : "") + Math.abs(stops).toFixed(1);

/** The last part of the name of a light or an object. */
export const short = (name) => name.replace(/\/+$/, "").split("/").pop();
