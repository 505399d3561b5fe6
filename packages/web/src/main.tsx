import { QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { RouterProvider } from 'react-router'
import { followLive } from './api/live.ts'
import { queryClient } from './api/queries.ts'
import { beginTheme } from './frame/theme.ts'
import { router } from './router.tsx'
import './styles.css'

beginTheme()
followLive()
createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={queryClient}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
)
