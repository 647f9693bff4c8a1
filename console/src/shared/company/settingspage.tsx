import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { may, meQuery, type Permission } from "../../api/queries";
import { Empty, Head, Loading } from "../../parts/controls";
import { LastChange } from "./lastchange";
import { Rail, settingsStops } from "../../parts/rail";

/** A page of the settings, for those who have a permission; the others read what is here. */
export function SettingsPage({
  title,
  sub,
  needs,
  about,
  kinds = [],
  children,
}: {
  title: string;
  sub: string;
  needs: Permission;
  about: string;
  kinds?: string[]; // of settings whose last change is told here
  children: ReactNode;
}) {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading />;
  return (
    <>
      <Head title={title} sub={sub} />
      <Rail label="Settings" stops={settingsStops} />
      {may(me.data, needs) ? (
        <>
          <LastChange kinds={kinds} />
          <div className="flex flex-col gap-9">{children}</div>
        </>
      ) : (
        <Empty>{about} is for those with the role lead.</Empty>
      )}
    </>
  );
}
