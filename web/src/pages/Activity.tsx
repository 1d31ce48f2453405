import { useInfiniteQuery } from "@tanstack/react-query";
import { Button } from "react-bootstrap";
import { Link } from "react-router";
import { api, must } from "../api";
import { Trouble, When } from "../parts";

/** Activity is the record of what happened, by whom. */
export function Activity({ site }: { site: string }) {
  const q = useInfiniteQuery({
    queryKey: ["events", "all", site],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => must(api.GET("/api/v1/events", { params: { query: { site, before: pageParam, limit: 100 } } })),
    getNextPageParam: (p) => p.next,
  });
  return (
    <>
      <h1>Activity</h1>
      <Trouble problem={q.error} />
      <table className="ledger folds">
        <thead><tr><th>When</th><th>Who</th><th>Site</th><th>What</th></tr></thead>
        <tbody>
          {q.data?.pages.flatMap((p) => p.events).map((e) => (
            <tr key={e.id}><td className="text-nowrap"><When at={e.at} /></td><td>{e.actor}</td><td>{e.site}</td><td>{e.device_id ? <Link to={`/devices/${e.device_id}`}>{e.text}</Link> : e.text}</td></tr>
          ))}
        </tbody>
      </table>
      {q.hasNextPage ? <Button className="mt-2" size="sm" variant="outline-primary" disabled={q.isFetching} onClick={() => void q.fetchNextPage()}>Earlier</Button> : null}
    </>
  );
}
