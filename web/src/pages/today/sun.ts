const toRadians = Math.PI / 180;

/**
 * oppositeOfSun gives the point of the earth, longitude first, where the sun
 * stands lowest; to a fraction of a degree, which is enough to shade the night.
 */
export function oppositeOfSun(at: Date): [number, number] {
  const days = at.getTime() / 86_400_000 - 10_957.5; // since noon of 1 January 2000
  const anomaly = (357.529 + 0.98560028 * days) * toRadians;
  const mean = 280.459 + 0.98564736 * days;
  const ecliptic = (mean + 1.915 * Math.sin(anomaly) + 0.02 * Math.sin(2 * anomaly)) * toRadians;
  const tilt = 23.439 * toRadians;
  const declination = Math.asin(Math.sin(tilt) * Math.sin(ecliptic)) / toRadians;
  const ascension = Math.atan2(Math.cos(tilt) * Math.sin(ecliptic), Math.cos(ecliptic)) / toRadians;
  const sidereal = 280.46061837 + 360.98564736629 * days; // of Greenwich, in degrees
  const longitude = ((((ascension - sidereal) % 360) + 540) % 360) - 180;
  return [longitude > 0 ? longitude - 180 : longitude + 180, -declination];
}
