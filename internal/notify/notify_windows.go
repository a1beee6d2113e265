package notify

import (
	"os"
	"os/exec"
	"syscall"

	"golang.org/x/sys/windows"
)

// toast is the script that shows a notification. The texts come in the environment, so that they are never part of it.
const toast = `
$null = [Windows.UI.Notifications.ToastNotificationManager, Windows.UI.Notifications, ContentType = WindowsRuntime]
$x = [Windows.UI.Notifications.ToastNotificationManager]::GetTemplateContent(
  [Windows.UI.Notifications.ToastTemplateType]::ToastText02)
$t = $x.GetElementsByTagName('text')
$null = $t.Item(0).AppendChild($x.CreateTextNode($env:POLYTOME_HEADING))
$null = $t.Item(1).AppendChild($x.CreateTextNode($env:POLYTOME_TEXT))
[Windows.UI.Notifications.ToastNotificationManager]::CreateToastNotifier(
  '{1AC14E77-02E7-4E5D-B744-2EB1AE5198B7}\WindowsPowerShell\v1.0\powershell.exe').Show(
  [Windows.UI.Notifications.ToastNotification]::new($x))`

// desktop has Windows show a notification.
func desktop(heading, text string) error {
	cmd := exec.Command("powershell.exe", "-NoProfile", "-NonInteractive", "-Command", toast)
	cmd.Env = append(os.Environ(), "POLYTOME_HEADING="+heading, "POLYTOME_TEXT="+text)
	cmd.SysProcAttr = &syscall.SysProcAttr{HideWindow: true, CreationFlags: windows.CREATE_NO_WINDOW}
	return cmd.Run()
}
