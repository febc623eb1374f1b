/** What is asked of the server about files, each with its key. */
import { api, take } from '@/api/client'

export const allFiles = () => ({ queryKey: ['files'], queryFn: () => take(api.GET('/api/v1/setup/files')) })
