import { useEffect, useRef, useState, type ImgHTMLAttributes } from "react";

// An image that is asked for again when it didn't come: a new variant may be turned away while the service is busy.
export function Patient(props: ImgHTMLAttributes<HTMLImageElement>) {
  const [tries, setTries] = useState(0);
  const timer = useRef<number>(undefined);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  return <img {...props} key={tries} onError={() => tries < 10 && (timer.current = window.setTimeout(() => setTries(tries + 1), 1000 + 500 * tries))} />;
}
