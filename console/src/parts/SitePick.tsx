// Which site a place is about; with all, also all of them.
import { useQuery } from "@tanstack/react-query";
import { listSites } from "../api/calls";
import { Pick } from "./Pick";

export const useSites = () => useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => listSites(signal) });

export function SitePick(props: { site: string; all?: boolean; onChange: (site: string) => void }) {
  const sites = useSites();
  const names = (sites.data ?? []).map((s) => ({ value: s.name, text: s.name }));
  return (
    <Pick
      label="Site"
      value={props.site || (props.all ? "all" : "")}
      options={props.all ? [{ value: "all", text: "all sites" }, ...names] : names}
      onChange={(v) => props.onChange(props.all && v === "all" ? "" : v)}
    />
  );
}
