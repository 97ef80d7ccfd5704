import { Table } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call } from "../api";
import { day, lasted, time } from "../format";
import { Schedules } from "../parts/schedules";
import { Empty, List, Page, Panel, Shown, To } from "../ui";

/** What will start by itself in the next 60 days, and by which schedules. */
export function CalendarPage() {
  const coming = useQuery({
    queryKey: ["calendar"],
    queryFn: () => call(api.GET("/api/v1/calendar", { params: { query: { days: 60 } } })),
  });
  return (
    <Page title="Calendar" lead="What will start by itself in the next 60 days. Times are in UTC.">
      <Schedules />
      <Panel title="Coming">
        <Shown query={coming}>
          {({ items }) =>
            items.length ? (
              <List
                label="Coming builds"
                head={["Day", "Starts", "Sheet", "Image", "Takes", "Schedule", "Only"]}
              >
                {items.map((b, n) => (
                  <Table.Row key={`${b.schedule} ${b.at}`}>
                    <Table.Cell whiteSpace="nowrap">
                      {(n === 0 || day(items[n - 1]?.at) !== day(b.at)) && day(b.at)}
                    </Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{time(b.at).split(" ")[1]}</Table.Cell>
                    <Table.Cell>
                      <To to={`/sheets/${b.sheet}`}>{b.sheet}</To>
                    </Table.Cell>
                    <Table.Cell>
                      <To to={`/images/${b.image}`}>{b.image}</To>
                    </Table.Cell>
                    <Table.Cell whiteSpace="nowrap">
                      {!!b.takes_seconds && `about ${lasted(b.takes_seconds)}`}
                    </Table.Cell>
                    <Table.Cell>{b.schedule}</Table.Cell>
                    <Table.Cell>{b.mode === "dates-if-changed" && "if something has changed"}</Table.Cell>
                  </Table.Row>
                ))}
              </List>
            ) : (
              <Empty>Nothing starts by itself on a date in the next 60 days.</Empty>
            )
          }
        </Shown>
      </Panel>
    </Page>
  );
}
