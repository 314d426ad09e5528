import type { ReactNode } from "react";

// What may be wider than the screen, and then is scrolled, also by keyboard.
export function Wide({ label, className = "", children }: { label: string; className?: string; children: ReactNode }) {
  return (
    <div role="region" aria-label={label} tabIndex={0} className={`relative min-w-0 overflow-x-auto ${className}`}>
      {children}
    </div>
  );
}
