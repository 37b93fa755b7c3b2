import { ElMessageBox } from 'element-plus'

/** Asks before something is done that cannot be taken back; true when it is wanted. */
export async function sure(question: string, act: string): Promise<boolean> {
  try {
    await ElMessageBox.confirm(question, { confirmButtonText: act, cancelButtonText: 'Leave it', type: 'warning', autofocus: false, showClose: false })
    return true
  } catch {
    return false
  }
}
