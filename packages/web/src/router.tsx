import { createBrowserRouter } from 'react-router'
import { ConnectionForm } from './connections/ConnectionForm.tsx'
import { ConnectionSheet } from './connections/ConnectionSheet.tsx'
import { SignedIn } from './connections/SignIn.tsx'
import { ConnectionsPage, NoConnection } from './connections/ConnectionsPage.tsx'
import { Frame } from './frame/Frame.tsx'
import { Lost } from './frame/Lost.tsx'
import { HeldPage } from './held/HeldPage.tsx'
import { LogPage } from './log/LogPage.tsx'
import { MapPage } from './map/MapPage.tsx'
import { AgreementSection } from './pipelines/agreement/AgreementSection.tsx'
import { HeldSection } from './pipelines/HeldSection.tsx'
import { PipelineNow } from './pipelines/PipelineNow.tsx'
import { PipelineLog } from './pipelines/PipelineLog.tsx'
import { PipelineSheet } from './pipelines/PipelineSheet.tsx'
import { AllPipelines } from './pipelines/all/AllPipelines.tsx'
import { RunsByTable } from './runs/RunsByTable.tsx'
import { PipelinesPage } from './pipelines/PipelinesPage.tsx'
import { RowsSection } from './pipelines/RowsSection.tsx'
import { RunsSection } from './pipelines/RunsSection.tsx'
import { SchedulesSection } from './pipelines/schedules/SchedulesSection.tsx'
import { SetupPage } from './pipelines/SetupPage.tsx'
import { SetupSection } from './pipelines/SetupSection.tsx'
import { SendDifferences } from './sending/SendDifferences.tsx'
import { SendHeld } from './sending/SendHeld.tsx'
import { SendRecords } from './sending/SendRecords.tsx'
import { SendSetupSection } from './sending/SendSetupSection.tsx'
import { TwoWayHeld } from './two-way/TwoWayHeld.tsx'
import { TwoWayPairs } from './two-way/TwoWayPairs.tsx'
import { TwoWaySetupSection } from './two-way/TwoWaySetupSection.tsx'
import { QueryPage } from './query/QueryPage.tsx'
import { SettingsPage } from './settings/SettingsPage.tsx'

export const router = createBrowserRouter([
  {
    element: <Frame />,
    errorElement: <Lost />,
    children: [
      { index: true, element: <MapPage /> },
      { path: 'pipelines/new', element: <SetupPage /> },
      { path: 'pipelines/:id/change', element: <SetupPage /> },
      {
        path: 'pipelines',
        element: <PipelinesPage />,
        children: [
          { index: true, element: <AllPipelines /> },
          { path: 'runs', element: <RunsByTable /> },
          {
            path: ':id',
            element: <PipelineSheet />,
            children: [
              { index: true, element: <PipelineNow /> },
              { path: 'rows', element: <RowsSection /> },
              { path: 'held', element: <HeldSection /> },
              { path: 'agreement', element: <AgreementSection /> },
              { path: 'runs', element: <RunsSection /> },
              { path: 'schedules', element: <SchedulesSection /> },
              { path: 'setup', element: <SetupSection /> },
              { path: 'log', element: <PipelineLog /> },
              { path: 'differences', element: <SendDifferences /> },
              { path: 'records', element: <SendRecords /> },
              { path: 'refused', element: <SendHeld /> },
              { path: 'sends', element: <SendSetupSection /> },
              { path: 'pairs', element: <TwoWayPairs /> },
              { path: 'undecided', element: <TwoWayHeld /> },
              { path: 'in-step', element: <TwoWaySetupSection /> },
            ],
          },
        ],
      },
      {
        path: 'connections',
        element: <ConnectionsPage />,
        children: [
          { index: true, element: <NoConnection /> },
          { path: 'new', element: <ConnectionForm /> },
          { path: ':id', element: <ConnectionSheet /> },
          { path: ':id/change', element: <ConnectionForm /> },
        ],
      },
      { path: 'signed-in', element: <SignedIn /> },
      { path: 'held', element: <HeldPage /> },
      { path: 'held/:run', element: <HeldPage /> },
      { path: 'query', element: <QueryPage /> },
      { path: 'log', element: <LogPage /> },
      { path: 'settings', element: <SettingsPage /> },
      { path: '*', element: <Lost /> },
    ],
  },
])
