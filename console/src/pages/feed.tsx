import { Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";
import { api, call } from "../api";
import { time } from "../format";
import { Releases } from "../parts/feeds";
import { useSigned } from "../session";
import { Act, Facts, Page, Panel, Shown } from "../ui";

/** One feed: when it was read, what of it could not be taken, and what stands in it. */
export function FeedPage() {
  const name = useParams().feed ?? "";
  const { may } = useSigned();
  const queries = useQueryClient();
  const go = useNavigate();
  const path = { params: { path: { feed: name } } };
  const feed = useQuery({
    queryKey: ["feeds", name],
    queryFn: () => call(api.GET("/api/v1/feeds/{feed}", path)),
  });
  return (
    <Page
      title={`Feed ${name}`}
      lead="A vendor's list of releases, from which bases are taken."
      actions={
        feed.data &&
        may("operator") && (
          <>
            <Act
              label="Read now"
              title={`Read ${name} now`}
              done={`${name} is read.`}
              run={() => call(api.POST("/api/v1/feeds/{feed}/read", path))}
            >
              It is read in its time anyway: this is for who cannot wait for that.
            </Act>
            <Act
              label="Delete"
              title={`Delete ${name}`}
              danger
              done={`${name} is deleted.`}
              run={async () => {
                await call(api.DELETE("/api/v1/feeds/{feed}", path));
                await queries.invalidateQueries({ queryKey: ["feeds"] });
                go("/bases");
              }}
            >
              Bases that were taken from it stay. No build can begin with the newest of it then.
            </Act>
          </>
        )
      }
    >
      <Shown query={feed}>
        {(f) => (
          <>
            <Panel title="Feed">
              <Facts
                of={[
                  ["Address", f.address],
                  ["Publisher", f.publisher],
                  ["Signed", f.signed ? "it has to be, by the key that was given" : "it need not be"],
                  ["Signed on", f.signed_at && time(f.signed_at)],
                  ["Releases", String(f.releases)],
                  ["Read", f.seen_at ? time(f.seen_at) : "not yet"],
                  ["Not read because", f.why],
                  ["Read every", `${Math.round(f.every_seconds / 60)} min`],
                  ["Added by", f.added_by],
                ]}
              />
            </Panel>
            {!!f.left_out?.length && (
              <Panel title="What of it could not be taken">
                {f.left_out.map((l) => (
                  <Text key={l}>{l}</Text>
                ))}
              </Panel>
            )}
            <Releases feed={name} />
          </>
        )}
      </Shown>
    </Page>
  );
}
