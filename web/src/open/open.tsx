import { useEffect } from "react";
import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import { api } from "../api/client";
import { Loading, TroubleNote } from "../frame/trouble";

/** Where a web address sends a browser that it does not know: who is signed in here goes back there. */
export function Open() {
  const { label = "" } = useParams();
  const [query] = useSearchParams();
  const to = query.get("to") ?? "/";
  const entry = useQuery({ queryKey: ["enter", label, to], queryFn: () => api.enterWeb(label, to), retry: false, staleTime: Infinity, gcTime: 0 });
  const url = entry.data?.url;
  useEffect(() => {
    if (url) location.replace(url);
  }, [url]);
  return (
    <>
      <title>Opening – Domicile</title>
      {entry.error ? <TroubleNote error={entry.error} /> : <Loading what="the program" />}
    </>
  );
}
